"""What to look at before a story goes out, worst first: jumps, flashes, cut words, loose ends."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from kovel.core.story.consequences import begun, frames_in_words, handles_at_seam, kind_of, name_of
from kovel.core.story.model import TITLE, Piece, Sources, Story
from kovel.core.story.seams import Seam, seams
from kovel.core.story.settings import on_line
from kovel.core.story.sync import same_moment
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp as clock

Grey = npt.NDArray[np.uint8]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing to look at, at story frame `at` (None: nowhere in particular); `weight` 0..100 says how bad it is."""

    kind: str
    at: int | None
    text: str
    weight: int

    @property
    def mend(self) -> tuple[str, str, str] | None:
        """What a room can do about it: the room, its action and the action's name."""
        return MENDS.get(self.kind)


def jump_strength(before: Grey, after: Grey) -> int:
    """How hard a jump is, 0 to 100: how far the pictures differ across it, against how much the shot moves by itself.

    `before` are small grey pictures (n, h, w) up to the last one out, `after` from the first one in. 0: it moves no more
    than the shot does anyway; 50: the pictures differ by 12 of 255 more than that.
    """
    x, y = before.astype(np.float32), after.astype(np.float32)
    own = [float(np.abs(np.diff(s, axis=0)).mean((1, 2)).max()) if len(s) > 1 else 0.0 for s in (x, y)]
    d = max(0.0, float(np.abs(x[-1] - y[0]).mean()) - max(own))
    return round(100 * d / (d + 12))


def _name(sources: Sources, source: int | None) -> str:
    return sources[source].name if source is not None and source in sources else "A recording"


MENDS = {
    "step": ("sound", "even", "Even out the voices"),
    "loudness": ("sound", "target", "Bring it there"),
    "over": ("sound", "target", "Tame the peaks"),
    "jump": ("picture", "punch", "Punch in at jumps"),
    "edges": ("picture", "", "Frame it"),
    "cut off": ("picture", "", "Change its look"),
    "unread": ("picture", "", "Change it"),
    "unsafe": ("picture", "", "Move it"),
}


def _as_set(
    story: Story, sources: Sources, p: Piece, moment: int, heard: tuple[float, float] | None
) -> tuple[float, float] | None:
    """Speech and background of a piece (dBFS) at the level it is set to at a moment of its recording; None where it is muted."""
    if heard is None or story.value(p, "mute", sources):
        return None
    level = story.value(p, "level", sources)
    db = on_line(level, moment) if isinstance(level, tuple) else float(level)
    return heard[0] + db, heard[1] + db


def checks(
    story: Story, sources: Sources, *,
    strength: Callable[[Seam], int | None] = lambda s: None,
    cuts_word: Callable[[int, int], str] = lambda source, frame: "",
    level: Callable[[int, int, int], tuple[float, float] | None] = lambda source, a, b: None,
) -> list[Finding]:  # fmt: skip
    """All findings, worst first, then by time.

    `strength` measures a jump; `cuts_word(source, frame)` names the word a cut at that frame goes through; `level(source,
    a, b)` gives speech and background in dBFS of a range.
    """
    rate = story.rate
    out: list[Finding] = []
    for s in seams(story, sources):
        if s.kind == "jump":
            hard = strength(s)
            said = f", strength {hard}" if hard is not None else ""
            out.append(
                Finding(
                    "jump",
                    s.at,
                    f"Exposed jump at {clock(s.at, rate)} in {_name(sources, s.left.source or 0)}{said}",
                    50 + (hard or 40) // 2,
                )
            )
        if s.kind in ("through", "soft") or s.left.source is None or s.right.source is None:
            continue
        for source, frame, side in ((s.left.source, s.ends[0], "ends"), (s.right.source, s.ends[1], "begins")):
            if word := cuts_word(source, frame):
                out.append(Finding("word", s.at, f"{_name(sources, source)} {side} inside “{word}” at {clock(s.at, rate)}", 55))
        a = _as_set(story, sources, s.left, s.ends[0], level(s.left.source, *s.left.used))
        b = _as_set(story, sources, s.right, s.ends[1], level(s.right.source, *s.right.used))
        if a and b and abs(a[1] - b[1]) > 8 and s.left.source == s.right.source:
            out.append(Finding("step", s.at, f"The room tone steps by {abs(a[1] - b[1]):.0f} dB at {clock(s.at, rate)}", 30))
        elif a and b and abs(a[0] - b[0]) > 8:
            out.append(Finding("step", s.at, f"The voice steps by {abs(a[0] - b[0]):.0f} dB at {clock(s.at, rate)}", 32))
    out += _covers(story, sources, rate)
    for c in (*story.loose,):
        out.append(Finding("loose", None, f"{begun(name_of(sources, c))} is loose: its word left the story", 60))
    for x in story.loose_sounds:
        out.append(Finding("loose", None, f"{_name(sources, x.source)} (sound) is loose: its word left the story", 60))
    for x in story.sounds:
        end = story.at(x) + x.length
        if end > story.length and not x.settings["fade_out"]:
            out.append(
                Finding(
                    "runs on",
                    story.length,
                    f"{_name(sources, x.source)} runs on {frames_in_words(end - story.length)} after the end; it is cut off there",
                    45,
                )
            )
    ends = max((story.at(x) + x.length for x in story.sounds if x.kind == "music" and "music" not in story.muted), default=0)
    if 0 < story.length - ends < 10 * rate.fps and ends:  # a bed that ends long before is meant to (common practice, no source)
        out.append(
            Finding("ends early", ends, f"The music ends {frames_in_words(story.length - ends)} before the pictures", 40)
        )
    for t, p in zip(story.starts, story.pieces, strict=False):
        if p.source is None and p.card is None:
            out.append(Finding("space", t, f"A space of {frames_in_words(p.length)} at {clock(t, rate)}", 25))
        elif p.length < max(2, int(rate.fps / 3)):
            out.append(Finding("short", t, f"A piece of only {frames_in_words(p.length)} at {clock(t, rate)}", 20))
    for j in story.transitions:
        if j.length and j.blend == "dissolve" and j.left and j.right:
            i = story.index_of(j.right)
            after, before, _, _ = handles_at_seam(story, sources, i)
            if min(after - (j.length - j.length // 2), before - j.length // 2) == 0:
                out.append(
                    Finding(
                        "handle",
                        story.starts[i],
                        f"The dissolve at {clock(story.starts[i], rate)} uses the last frame there is",
                        5,
                    )
                )
    out = _quick(story, sources, rate, out)
    return sorted(out, key=lambda f: (-f.weight, f.at if f.at is not None else -1))


def _quick(story: Story, sources: Sources, rate: Rate, found: list[Finding]) -> list[Finding]:
    """Quick cuts are meant: three or more pieces of one recording in a row, each of ten frames or less (common practice), are
    one finding, and what would be said of each of them is not."""
    most = max(10, int(rate.fps / 3))
    i, n = 0, len(story.pieces)
    while i < n:
        k = i
        while k < n and story.pieces[k].source == story.pieces[i].source is not None and story.pieces[k].length <= most:
            k += 1
        if k - i >= 3:
            a, b = story.starts[i], story.starts[k]
            text = f"{k - i} quick pieces of {_name(sources, story.pieces[i].source)} from {clock(a, rate)} to {clock(b, rate)}"
            per_cut = ("jump", "short", "word", "step")
            found = [f for f in found if f.kind not in per_cut or f.at is None or not (a <= f.at < b or a < f.at <= b)]
            found.append(Finding("quick", a, text, 15))
        i = max(k, i + 1)
    return found


def _covers(story: Story, sources: Sources, rate: Rate) -> list[Finding]:
    out: list[Finding] = []
    seen = [(a, min(b, story.length), c) for a, b, c in story.spans if f"cover {c.lane}" not in story.muted]
    spans = sorted((r for r in seen if r[2].source != TITLE), key=lambda r: r[:2])
    reach = 0
    flash = int(rate.fps)  # less than a second between two covers reads as a flash (common practice, no source)
    for k, (a, b, _) in enumerate(spans):
        if k and 0 < a - reach < flash:
            out.append(
                Finding(
                    "flash", reach, f"A flash of {frames_in_words(a - reach)} between two covers at {clock(reach, rate)}", 48
                )
            )
        reach = max(reach, b)
    for a, b, c in spans:
        if b - a < rate.fps:
            out.append(
                Finding("short", a, f"{_name(sources, c.source)} covers only {frames_in_words(b - a)} at {clock(a, rate)}", 35)
            )
        elif b - a > 6 * rate.fps:  # 3-4 s is the rule of thumb (common practice)
            out.append(
                Finding(
                    "long", a, f"{_name(sources, c.source)} stays for {float((b - a) / rate.fps):.1f} s at {clock(a, rate)}", 12
                )
            )
        if c.source in sources and sources[c.source].sync is not None:
            i = story.index_at(a)
            p = story.pieces[i]
            under = sources.get(p.source) if p.source is not None else None
            if p.take == "sound":
                under = None  # its voice is meant to run under other pictures
            want = (
                same_moment(under, sources[c.source], p.moment(a - story.starts[i]), rate)
                if under and p.clock.as_shot
                else None
            )
            if want is not None and want != c.start and abs(want - c.start) < 5 * rate.fps:
                out.append(
                    Finding(
                        "angle",
                        a,
                        f"{_name(sources, c.source)} is {frames_in_words(c.start - want)} out of step with the voice at {clock(a, rate)}",
                        65,
                    )
                )
    for i in range(len(story.pieces) + 1):
        j = story.transition(i) if story.transitions else None
        if not j or not j.length:
            continue
        before = j.length // 2 if 0 < i < len(story.pieces) else 0 if i == 0 else j.length
        lo, hi = story.starts[i] - before, story.starts[i] - before + j.length
        for a, b, c in spans:
            if lo < a < hi or lo < b < hi:
                edge = a if lo < a < hi else b
                text = f"{_name(sources, c.source)} {'begins' if edge == a else 'ends'} inside the {kind_of(j)} at {clock(edge, rate)}: part of it is bared"
                out.append(Finding("half", edge, text, 46))
    by_source: dict[int, list[tuple[int, int, int]]] = {}
    for a, _, c in spans:
        by_source.setdefault(c.source, []).append((c.start, c.end, a))
    for source, rows in by_source.items():
        for x, y in pairwise(sorted(rows)):
            if y[0] < x[1] and sources.get(source) and sources[source].frames is not None:
                out.append(
                    Finding(
                        "twice",
                        max(x[2], y[2]),
                        f"The same part of {_name(sources, source)} is seen twice: {clock(x[2], rate)} and {clock(y[2], rate)}",
                        28,
                    )
                )
    return out
