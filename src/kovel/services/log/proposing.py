"""What is proposed from what is said: a first radio cut of themes, and other tellings for a piece of the story; cut
in pauses."""

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
    data_folder: DataFolder, project: int, seconds: float, chosen: Sequence[int] = (), order: radio_cut.Order = "theme"
) -> Proposed:
    """A first radio cut of chosen themes (none: all that are not set aside), as a new story beside the others."""
    if not 5 <= seconds <= 4 * 3600:
        raise Invalid("A radio cut lasts from five seconds to four hours.")
    if not theme_rows.listing(data_folder.db, project):
        group(data_folder, project)
    listed_themes = listing(data_folder, project)
    ids = [theme.id for theme in listed_themes if not theme.aside] if not chosen else list(dict.fromkeys(chosen))
    for t in ids:
        theme_rows.get(data_folder.db, project, t)
    known = meant(data_folder, project)
    sentences, at = _sentences(data_folder, project, known, [theme for theme in listed_themes if theme.id in ids])
    pairs, better = _pairs(data_folder, project, known, at)
    picked = radio_cut.proposal(sentences, known.rows[at], round(seconds * 48_000), ids, pairs, better, order)
    name = {theme.id: theme.name for theme in listed_themes}
    return _as_story(data_folder, project, sentences, picked, name, order, seconds)


def _sentences(
    data_folder: DataFolder, project: int, known: Meant, chosen: Sequence[Theme]
) -> tuple[list[radio_cut.Sentence], list[int]]:
    """The sentences of themes that can be told, and their indices in `known`."""
    theme_of: dict[int, int] = {}
    middles: dict[int, Floats] = {}
    for theme in chosen:
        ids = [
            sentence_index
            for shown in theme.shown
            for sentence_index in range(shown.statement.first, shown.statement.last)
        ]
        theme_of |= dict.fromkeys(ids, theme.id)
        if ids:
            mean_row = known.rows[ids].mean(0)
            middles[theme.id] = mean_row / max(1e-9, float(np.linalg.norm(mean_row)))
    clips: dict[int, list[Subclip]] = {}
    for subclip in subclips.of_project(data_folder.db, project):
        clips.setdefault(subclip.recording, []).append(subclip)
    clock = recordings.clock_of(data_folder.db, project)
    near = {key: float(known.rows[key] @ middles[t]) for key, t in theme_of.items()}
    keep = sorted(sorted(theme_of, key=lambda i: -near[i])[:MOST_SENTENCES])
    sentences_there, at = [], []
    for recording in dict.fromkeys(known.said[sentence_index].recording for sentence_index in keep):
        own_sentences = [sentence_index for sentence_index in keep if known.said[sentence_index].recording == recording]
        words = transcripts.words(data_folder.db, recording)
        of = spoken(data_folder, recordings.get(data_folder.db, recording))
        asked_spans = questions(words, levels(data_folder, recording), interviewer(data_folder), of)
        cuts = cut_points(
            data_folder, recording, words, [known.said[sentence_index] for sentence_index in own_sentences], clock
        )
        for sentence_index, (before, after) in zip(own_sentences, cuts, strict=True):
            sentence = known.said[sentence_index]
            if asks(sentence.text) or any(
                overlap((proposal.start, proposal.end), (sentence.start, sentence.end))
                > (sentence.end - sentence.start) // 2
                for proposal in asked_spans
            ):
                continue
            verdict = _verdict(
                clips.get(recording, ()),
                sentence,
                clock.sample_to_frame(sentence.start),
                clock.sample_to_frame(sentence.end),
            )
            fluent = retold.telling(words_said(data_folder, sentence), of).fluent
            sentences_there.append(
                radio_cut.Sentence(
                    sentence, theme_of[sentence_index], near[sentence_index], before, after, verdict, fluent
                )
            )
            at.append(sentence_index)
    return sentences_there, at


def _verdict(clips: Iterable[Subclip], sentence: Said, start: int, end: int) -> str:
    """What the log says of most of a sentence."""
    weigh: Counter[str] = Counter()
    for subclip in clips:
        shared = overlap((subclip.start, subclip.end), (start, end))
        if 2 * shared > end - start:
            weigh[subclip.verdict] += shared
    return weigh.most_common(1)[0][0] if weigh else ""


def cut_points(
    data_folder: DataFolder, recording: int, words: Sequence[Word], sentences_said: Sequence[Said], clock: Rate
) -> list[tuple[int | None, int | None]]:
    """Where each sentence can be cut before and after: the first sample of a frame of the project that lies inside the
    pause there, with a little air; None without a pause.

    speech  ███ ████            ███████ ██
    pause          [──────────]
    after             |      |    before the next one
    """
    if levels(data_folder, recording) is None:  # not listened to yet: where no word stands
        gaps = [(word.end, other.start) for word, other in pairwise(words) if other.start - word.end >= GAP]
        points_found = (
            [(max(0, words[0].start - GAP), words[0].start), *gaps, (words[-1].end, words[-1].end + GAP)]
            if words
            else []
        )
    else:
        points_found = [(pause.start, pause.end) for pause in found_pauses(data_folder, recording, None, words)]
    points_there: list[tuple[int | None, int | None]] = []
    for sentence in sentences_said:
        before = next(
            (
                point
                for point in reversed(points_found)
                if point[1] <= sentence.start + NEAR and sentence.start - point[1] < GAP
            ),
            None,
        )
        after = next(
            (point for point in points_found if point[0] >= sentence.end - NEAR and point[0] - sentence.end < GAP), None
        )
        points_there.append((_first(clock, before, sentence.start), _last(clock, after, sentence.end)))
    return points_there


def _first(clock: Rate, pause: tuple[int, int] | None, start: int) -> int | None:
    if pause is None:
        return None
    frame = clock.sample_to_frame(max(pause[0], min(pause[1], start) - round(AIR_BEFORE * 48_000)))
    at = clock.frame_to_sample(frame)
    at = at if at >= pause[0] else clock.frame_to_sample(frame + 1)
    return at if at <= start else None


def _last(clock: Rate, pause: tuple[int, int] | None, end: int) -> int | None:
    if pause is None:
        return None
    frame = clock.sample_to_frame(min(pause[1], max(pause[0], end) + round(AIR_AFTER * 48_000)))
    at = clock.frame_to_sample(frame)
    at = at if at >= end else clock.frame_to_sample(frame + 1)
    return at if at <= pause[1] else None


def _pairs(
    data_folder: DataFolder, project: int, known: Meant, at: Sequence[int]
) -> tuple[list[tuple[int, int]], Mapping[tuple[int, int], int]]:
    """What of the chosen sentences tells the same, and which of them the editor picked."""
    place = {
        (known.said[sentence_index].recording, known.said[sentence_index].start): index
        for index, sentence_index in enumerate(at)
    }
    said_of = judged(data_folder, project)
    pairs, better = [], {}
    for pair in retold.told_twice([known.said[sentence_index] for sentence_index in at], known.rows[list(at)]):
        key, b = (
            (known.said[at[pair_half]].recording, known.said[at[pair_half]].start) for pair_half in (pair.a, pair.b)
        )
        if said_of.get((key, b)) == "apart":
            continue
        pairs.append((pair.a, pair.b))
    for (key, b), which in said_of.items():
        if which in ("a", "b") and key in place and b in place:
            pairs.append((place[key], place[b]))
            better[place[key], place[b]] = place[key] if which == "a" else place[b]
    return pairs, better


def _as_story(
    data_folder: DataFolder,
    project: int,
    sentences: Sequence[radio_cut.Sentence],
    picked: Sequence[radio_cut.Chosen],
    name: Mapping[int, str],
    order: radio_cut.Order,
    seconds: float,
) -> Proposed:
    """The pieces of a proposal as a story: cut at frames inside the pauses, a heading where a theme begins."""
    this_project = projects.get(data_folder.db, project)
    sources = recordings.sources(data_folder.db, project)
    story, why, last = Story(this_project.rate), [], None
    for chosen in picked:
        said_sentence = sentences[chosen.bite.first].said
        first, end = (
            this_project.rate.sample_to_frame(chosen.bite.start),
            this_project.rate.sample_to_frame(chosen.bite.end),
        )
        total = sources[said_sentence.recording].length(this_project.rate) or end
        story, _ = catalogue.run(
            story,
            sources,
            "add_at_end",
            {"source": said_sentence.recording, "start": first, "length": min(end, total) - first},
        )
        text = " ".join(sentence.said.text for sentence in sentences[chosen.bite.first : chosen.bite.last])
        why.append(
            f"{said_sentence.speaker or sources[said_sentence.recording].name}: "
            f"“{text[:80]}{'…' if len(text) > 80 else ''}”: "
            f"{name[chosen.theme]}; {chosen.why}"
        )
        if order == "theme" and chosen.theme != last:
            story, _ = catalogue.run(
                story, sources, "set_heading", {"piece": story.pieces[-1].id, "heading": name[chosen.theme]}
            )
        last = chosen.theme
    title = f"Radio cut, {seconds:.0f} s" if seconds < 90 else f"Radio cut, {seconds / 60:.3g} min"
    taken = {kept.name for kept in stories.of_project(data_folder.db, project)}
    title = next(
        name for name in (title, *(f"{title} ({name_number})" for name_number in range(2, 10_000))) if name not in taken
    )
    story_id = stories.create_with(data_folder.db, project, title, story, f"proposed: {title}", why, stories.PROPOSED)
    return Proposed(story_id, title, story.length, tuple(why))


def alternates(data_folder: DataFolder, project: int, recording: int, start: int, end: int) -> list[Said]:
    """Other tellings of what is said in samples [start, end) of a recording, those that were picked as the better
    ones first."""
    known = meant(data_folder, project)
    mine = {
        (sentence.recording, sentence.start)
        for sentence in known.said
        if sentence.recording == recording
        and overlap((sentence.start, sentence.end), (start, end)) * 2 > sentence.end - sentence.start
    }
    said_of = judged(data_folder, project)
    other_alternates: list[tuple[bool, Said]] = []
    for pair in all_pairs(data_folder, project, known):
        sentence, statement = known.said[pair.a], known.said[pair.b]
        better = said_of.get(((sentence.recording, sentence.start), (statement.recording, statement.start)), "")
        for own_sentence, y, which in ((sentence, statement, "b"), (statement, sentence, "a")):
            if (
                better != "apart"
                and (own_sentence.recording, own_sentence.start) in mine
                and (y.recording, y.start) not in mine
            ):
                other_alternates.append((better != which, y))
    return [sentence for _, sentence in sorted(other_alternates, key=lambda o: o[0])]


def other_tellings(data_folder: DataFolder, project: int, story: Story, at: int) -> list[Offer]:
    """What could stand in the place of the piece at story frame `at`: the same told elsewhere, cut in its pauses."""
    if not story.pieces:
        raise Invalid("The story is empty.")
    piece = story.pieces[story.index_at(min(at, story.length - 1))]
    sources = recordings.sources(data_folder.db, project)
    if piece.source is None or piece.source not in sources:
        raise Invalid("Nobody speaks there.")
    frame_rate = story.rate
    tellings_there = []
    for sentence in alternates(
        data_folder, project, piece.source, *(frame_rate.frame_to_sample(used_frame) for used_frame in piece.used)
    ):
        ((first, last),) = cut_points(
            data_folder,
            sentence.recording,
            transcripts.words(data_folder.db, sentence.recording),
            [sentence],
            frame_rate,
        )
        start = frame_rate.sample_to_frame(sentence.start if first is None else first)
        end = frame_rate.sample_to_frame(sentence.end) + 1 if last is None else frame_rate.sample_to_frame(last)
        params = {"piece": piece.id, "source": sentence.recording, "start": start, "length": max(1, end - start)}
        tellings_there.append(
            Offer(
                "telling",
                f"{sentence.speaker or sources[sentence.recording].name}: {sentence.text[:70]}",
                sources[sentence.recording].name,
                "replace_piece",
                params,
            )
        )
    return tellings_there
