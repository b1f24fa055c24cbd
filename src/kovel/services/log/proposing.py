"""What is proposed from what is said: a first radio cut of themes, and other tellings for a piece of the story; cut in pauses."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from kovel.core.checks.offers import Offer
from kovel.core.errors import Invalid
from kovel.core.story import catalogue
from kovel.core.story.model import Story
from kovel.core.time.rate import Rate
from kovel.core.words import radio_cut, retold
from kovel.core.words.fillers import questions
from kovel.core.words.nearness import Said
from kovel.core.words.transcript import Word
from kovel.core.words.writing import asks
from kovel.data_folder import DataFolder
from kovel.services.log.recording_languages import spoken
from kovel.services.log.sentence_meaning import Floats, Meant, meant
from kovel.services.log.speech_levels import found_pauses, levels
from kovel.services.log.theming import Theme, all_pairs, group, judged, listing, overlap, words_said
from kovel.services.tighten.proposals import interviewer
from kovel.store import projects, recordings, stories, subclips, theme_rows, transcripts
from kovel.store.subclips import Subclip

AIR_BEFORE, AIR_AFTER = 0.10, 0.16  # seconds of a pause that stay beside a bite, where there are so many
GAP, NEAR = 24_000, 2_400  # samples: of a pause, and of a word's edge that reaches into one
MOST_SENTENCES = 2500  # of chosen themes that a proposal is made of; those nearest to their themes


@dataclass(frozen=True)
class Proposed:
    """A story that was proposed: its number and name, how long it is in frames, and why each of its pieces is in it."""

    story: int
    name: str
    length: int
    why: tuple[str, ...]


def propose(
    data: DataFolder, project: int, seconds: float, chosen: Sequence[int] = (), order: radio_cut.Order = "theme"
) -> Proposed:
    """A first radio cut of chosen themes (none: all that are not set aside), as a new story beside the others."""
    if not 5 <= seconds <= 4 * 3600:
        raise Invalid("A radio cut lasts from five seconds to four hours.")
    if not theme_rows.listing(data.db, project):
        group(data, project)
    rows = listing(data, project)
    ids = [t.id for t in rows if not t.aside] if not chosen else list(dict.fromkeys(chosen))
    for t in ids:
        theme_rows.get(data.db, project, t)
    known = meant(data, project)
    sentences, at = _sentences(data, project, known, [t for t in rows if t.id in ids])
    pairs, better = _pairs(data, project, known, at)
    picked = radio_cut.proposal(sentences, known.rows[at], round(seconds * 48_000), ids, pairs, better, order)
    name = {t.id: t.name for t in rows}
    return _as_story(data, project, sentences, picked, name, order, seconds)


def _sentences(
    data: DataFolder, project: int, known: Meant, chosen: Sequence[Theme]
) -> tuple[list[radio_cut.Sentence], list[int]]:
    """The sentences of themes that can be told, and their indices in `known`."""
    theme_of: dict[int, int] = {}
    middles: dict[int, Floats] = {}
    for t in chosen:
        ids = [i for x in t.shown for i in range(x.statement.first, x.statement.last)]
        theme_of |= dict.fromkeys(ids, t.id)
        if ids:
            m = known.rows[ids].mean(0)
            middles[t.id] = m / max(1e-9, float(np.linalg.norm(m)))
    clips: dict[int, list[Subclip]] = {}
    for c in subclips.of_project(data.db, project):
        clips.setdefault(c.recording, []).append(c)
    clock = recordings.clock_of(data.db, project)
    near = {i: float(known.rows[i] @ middles[t]) for i, t in theme_of.items()}
    keep = sorted(sorted(theme_of, key=lambda i: -near[i])[:MOST_SENTENCES])
    out, at = [], []
    for recording in dict.fromkeys(known.said[i].recording for i in keep):
        own = [i for i in keep if known.said[i].recording == recording]
        words = transcripts.words(data.db, recording)
        of = spoken(data, recordings.get(data.db, recording))
        asked = questions(words, levels(data, recording), interviewer(data), of)
        cuts = cut_points(data, recording, words, [known.said[i] for i in own], clock)
        for i, (before, after) in zip(own, cuts, strict=True):
            s = known.said[i]
            if asks(s.text) or any(overlap((q.start, q.end), (s.start, s.end)) > (s.end - s.start) // 2 for q in asked):
                continue
            verdict = _verdict(clips.get(recording, ()), s, clock.sample_to_frame(s.start), clock.sample_to_frame(s.end))
            fluent = retold.telling(words_said(data, s), of).fluent
            out.append(radio_cut.Sentence(s, theme_of[i], near[i], before, after, verdict, fluent))
            at.append(i)
    return out, at


def _verdict(clips: Iterable[Subclip], s: Said, a: int, b: int) -> str:
    """What the log says of most of a sentence."""
    weigh: Counter[str] = Counter()
    for c in clips:
        n = overlap((c.start, c.end), (a, b))
        if 2 * n > b - a:
            weigh[c.verdict] += n
    return weigh.most_common(1)[0][0] if weigh else ""


def cut_points(
    data: DataFolder, recording: int, words: Sequence[Word], rows: Sequence[Said], clock: Rate
) -> list[tuple[int | None, int | None]]:
    """Where each sentence can be cut before and after: the first sample of a frame of the project that lies inside the pause there,
    with a little air; None without a pause.

    speech  ███ ████            ███████ ██
    pause          [──────────]
    after             |      |    before the next one
    """
    if levels(data, recording) is None:  # not listened to yet: where no word stands
        gaps = [(a.end, b.start) for a, b in pairwise(words) if b.start - a.end >= GAP]
        found = [(max(0, words[0].start - GAP), words[0].start), *gaps, (words[-1].end, words[-1].end + GAP)] if words else []
    else:
        found = [(p.start, p.end) for p in found_pauses(data, recording, None, words)]
    out: list[tuple[int | None, int | None]] = []
    for s in rows:
        before = next((p for p in reversed(found) if p[1] <= s.start + NEAR and s.start - p[1] < GAP), None)
        after = next((p for p in found if p[0] >= s.end - NEAR and p[0] - s.end < GAP), None)
        out.append((_first(clock, before, s.start), _last(clock, after, s.end)))
    return out


def _first(clock: Rate, pause: tuple[int, int] | None, start: int) -> int | None:
    if pause is None:
        return None
    f = clock.sample_to_frame(max(pause[0], min(pause[1], start) - round(AIR_BEFORE * 48_000)))
    at = clock.frame_to_sample(f)
    at = at if at >= pause[0] else clock.frame_to_sample(f + 1)
    return at if at <= start else None


def _last(clock: Rate, pause: tuple[int, int] | None, end: int) -> int | None:
    if pause is None:
        return None
    f = clock.sample_to_frame(min(pause[1], max(pause[0], end) + round(AIR_AFTER * 48_000)))
    at = clock.frame_to_sample(f)
    at = at if at >= end else clock.frame_to_sample(f + 1)
    return at if at <= pause[1] else None


def _pairs(
    data: DataFolder, project: int, known: Meant, at: Sequence[int]
) -> tuple[list[tuple[int, int]], Mapping[tuple[int, int], int]]:
    """What of the chosen sentences tells the same, and which of them the editor picked."""
    place = {(known.said[i].recording, known.said[i].start): k for k, i in enumerate(at)}
    said_of = judged(data, project)
    pairs, better = [], {}
    for t in retold.told_twice([known.said[i] for i in at], known.rows[list(at)]):
        a, b = ((known.said[at[x]].recording, known.said[at[x]].start) for x in (t.a, t.b))
        if said_of.get((a, b)) == "apart":
            continue
        pairs.append((t.a, t.b))
    for (a, b), which in said_of.items():
        if which in ("a", "b") and a in place and b in place:
            pairs.append((place[a], place[b]))
            better[place[a], place[b]] = place[a] if which == "a" else place[b]
    return pairs, better


def _as_story(
    data: DataFolder, project: int, rows: Sequence[radio_cut.Sentence], picked: Sequence[radio_cut.Chosen], name: Mapping[int, str],
    order: radio_cut.Order, seconds: float,
) -> Proposed:  # fmt: skip
    """The pieces of a proposal as a story: cut at frames inside the pauses, a heading where a theme begins."""
    p = projects.get(data.db, project)
    sources = recordings.sources(data.db, project)
    story, why, last = Story(p.rate), [], None
    for c in picked:
        said = rows[c.bite.first].said
        first, end = p.rate.sample_to_frame(c.bite.start), p.rate.sample_to_frame(c.bite.end)
        total = sources[said.recording].length(p.rate) or end
        story, _ = catalogue.run(
            story, sources, "add_at_end", {"source": said.recording, "start": first, "length": min(end, total) - first}
        )
        text = " ".join(r.said.text for r in rows[c.bite.first : c.bite.last])
        why.append(
            f"{said.speaker or sources[said.recording].name}: “{text[:80]}{'…' if len(text) > 80 else ''}”: {name[c.theme]}; {c.why}"
        )
        if order == "theme" and c.theme != last:
            story, _ = catalogue.run(story, sources, "set_heading", {"piece": story.pieces[-1].id, "heading": name[c.theme]})
        last = c.theme
    title = f"Radio cut, {seconds:.0f} s" if seconds < 90 else f"Radio cut, {seconds / 60:.3g} min"
    taken = {n.name for n in stories.of_project(data.db, project)}
    title = next(n for n in (title, *(f"{title} ({k})" for k in range(2, 10_000))) if n not in taken)
    sid = stories.create_with(data.db, project, title, story, f"proposed: {title}", why, stories.PROPOSED)
    return Proposed(sid, title, story.length, tuple(why))


def alternates(data: DataFolder, project: int, recording: int, start: int, end: int) -> list[Said]:
    """Other tellings of what is said in samples [start, end) of a recording, those that were picked as the better ones first."""
    known = meant(data, project)
    mine = {
        (s.recording, s.start)
        for s in known.said
        if s.recording == recording and overlap((s.start, s.end), (start, end)) * 2 > s.end - s.start
    }
    said_of = judged(data, project)
    out: list[tuple[bool, Said]] = []
    for t in all_pairs(data, project, known):
        a, b = known.said[t.a], known.said[t.b]
        better = said_of.get(((a.recording, a.start), (b.recording, b.start)), "")
        for x, y, which in ((a, b, "b"), (b, a, "a")):
            if better != "apart" and (x.recording, x.start) in mine and (y.recording, y.start) not in mine:
                out.append((better != which, y))
    return [s for _, s in sorted(out, key=lambda o: o[0])]


def other_tellings(data: DataFolder, project: int, story: Story, at: int) -> list[Offer]:
    """What could stand in the place of the piece at story frame `at`: the same told elsewhere, cut in its pauses."""
    if not story.pieces:
        raise Invalid("The story is empty.")
    p = story.pieces[story.index_at(min(at, story.length - 1))]
    sources = recordings.sources(data.db, project)
    if p.source is None or p.source not in sources:
        raise Invalid("Nobody speaks there.")
    rate = story.rate
    out = []
    for s in alternates(data, project, p.source, *(rate.frame_to_sample(f) for f in p.used)):
        ((first, last),) = cut_points(data, s.recording, transcripts.words(data.db, s.recording), [s], rate)
        start = rate.sample_to_frame(s.start if first is None else first)
        end = rate.sample_to_frame(s.end) + 1 if last is None else rate.sample_to_frame(last)
        params = {"piece": p.id, "source": s.recording, "start": start, "length": max(1, end - start)}
        out.append(
            Offer(
                "telling",
                f"{s.speaker or sources[s.recording].name}: {s.text[:70]}",
                sources[s.recording].name,
                "replace_piece",
                params,
            )
        )
    return out
