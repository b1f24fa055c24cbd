"""Examples of edits as text: a story in one line, an edit in one, what it made and told in a few.

three
    | A 100-200 | A 300-360 | B 0-80 |
  insert at=0 source=2 start=5 length=10
    | B 5-15 | A 100-200 | A 300-360 | B 0-80 |
    B, 10 frames, at 0:00+00. Playhead 10, made 4
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

from kovel.core.story.catalogue import run
from kovel.core.story.model import Cover, Piece, Refused, Sound, Story, Transition
from kovel.core.story.paste import copied, copied_clips
from tests.core.stories import EMPTY, SOURCES, do, three


def laid() -> Story:
    """A cover and an effect over the words of the second piece, a bed on the story's clock."""
    s = do(three(), "lay_cover", source=3, at=120, until=180, start=10)
    s = do(s, "lay_sound", source=6, at=120, until=180, start=10, kind="effect")
    return do(s, "lay_sound", source=6, at=20, until=230, start=20, kind="music", clock_bound=True)


def overrun() -> Story:
    """The effect and the bed go on behind the story's end."""
    return do(do(laid(), "trim_sound", sound=5, edge="out", delta=90), "trim_sound", sound=6, edge="out", delta=40)


def loosened() -> Story:
    """The words under a cover and an effect are gone: both wait in the tray. Another cover lies over the beginning."""
    s = do(three(), "lay_cover", source=3, at=110, until=150, start=10)
    s = do(s, "lay_sound", source=6, at=110, until=150, start=10, kind="effect")
    return do(do(s, "lay_cover", source=2, at=10, until=50, start=0), "remove", piece=2)


def faded() -> Story:
    """The effect comes in over 20 frames and goes out over 30; a second cover over its beginning, on top of the
    first."""
    s = do(do(laid(), "set_value", to=5, setting="fade_in", value=20), "set_value", to=5, setting="fade_out", value=30)
    return do(s, "lay_cover", source=2, at=110, until=140, start=0, lane=2)


def many() -> Story:
    """A shot over the seams of seven pieces of one recording."""
    s = three()
    for k in range(6):
        s = do(s, "add_at_end", source=1, start=500 + 40 * k, length=20)
    return do(s, "lay_cover", source=2, at=230, until=355, start=100)


def rising() -> Story:
    """The first piece comes in over 20 frames and goes out over 30."""
    return do(
        do(three(), "set_value", to=1, setting="fade_in", value=20), "set_value", to=1, setting="fade_out", value=30
    )


def ended() -> Story:
    """The second piece gets faster in steps; a title by the clock lies over the end."""
    s = do(three(), "set_ramp", item=2, line=[[300, 100], [330, 200]], steps=True, keep="place")
    return do(s, "lay_title", at=s.length - 30, text="River", length=30, by_clock=True)


def swapped() -> Story:
    """Two spaces beside each other, with a cover that begins over the second."""
    s = do(do(EMPTY, "add_at_end", source=1, start=0, length=50), "insert_space", at=0, length=20)
    return do(do(s, "split", at=10), "lay_cover", source=3, at=12, until=18, start=0)


def bunch() -> Story:
    """Two shots and a title over them, grouped; a third shot beside; a bed on the story's clock."""
    s = do(do(laid(), "lay_cover", source=3, at=20, until=40, start=100), "lay_title", at=125, text="Mo", length=40)
    return do(do(s, "lay_cover", source=2, at=190, until=220, start=300), "set_group", ids=[4, 7, 8])


def marked() -> Story:
    """Markers on words of the first and the second piece, and on the story's end."""
    s = do(do(three(), "add_marker", at=40, text="winter"), "add_marker", at=110, shape="dot")
    return do(s, "add_marker", at=s.length)


def carded() -> Story:
    """A marker in the middle of the card at the end."""
    return do(spaced(), "add_marker", at=278)


def tied() -> Story:
    """The effect is tied to the cover over it."""
    return do(laid(), "tie_sound", sound=5)


def joined() -> Story:
    """A dissolve, an L-cut, a crossfade and a heading."""
    s = do(three(), "set_blend", piece=2, blend="dissolve", length=12)
    s = do(s, "split_edit", piece=3, frames=4)
    return do(do(s, "crossfade", piece=2, frames=4), "set_heading", piece=3, heading="River", target=70)


def spaced() -> Story:
    """A space after the first piece, a card at the end."""
    return do(do(three(), "insert_space", at=100, length=25), "insert_card", at=265, length=20, text="River")


def cut() -> Story:
    """One bite of which the middle was taken out, another that was split."""
    return do(do(three(), "extract", a=40, b=50), "split", at=70)


def valued() -> Story:
    """Settings on a piece, a cover and the story; two pieces grouped; music that goes along."""
    s = do(do(laid(), "set_value", to=1, setting="zoom", value=130), "set_value", to=1, setting="level", value=-6)
    s = do(do(s, "set_value", to=4, setting="opacity", value=50), "set_value", to="story", setting="level", value=2)
    return do(do(s, "set_group", ids=[1, 2]), "set_along", lane="music")


def retimed() -> Story:
    """A shot with sound at 200 % over the second piece, another at its own speed."""
    s = do(three(), "lay_cover", source=4, at=110, until=150, start=20, end=100, fit=True)
    return do(s, "lay_cover", source=4, at=200, until=230, start=0)


def ramped() -> Story:
    """The cover gets faster from its thirtieth frame on, up to 400 %, where another cover with a ramp in steps
    follows."""
    s = do(laid(), "set_ramp", item=4, line=[[10, 100], [40, 100], [60, 400]])
    s = do(s, "lay_cover", source=4, at=200, until=230, start=0)
    return do(s, "set_ramp", item=7, line=[[0, 50], [10, 200]], steps=True, keep="place")


def paced() -> Story:
    """The second piece at 200 % with a shot over its middle, the third one backwards, with a sound on its tenth
    frame."""
    s = do(do(three(), "lay_cover", source=3, at=130, until=150), "set_speed", item=2, percent=200)
    s = do(s, "lay_sound", source=6, at=140, until=160, start=10, kind="effect")
    return do(s, "run_backwards", items=3, backwards=True)


def dipped() -> Story:
    """The whole dips at two places."""
    return do(do(three(), "dip_here", at=60, value=-3), "dip_here", at=120, value=-1)


def along() -> Story:
    """The cover's lane goes along; a second effect is tied to the cover's middle."""
    s = do(laid(), "lay_sound", source=6, at=150, until=170, start=100, kind="effect")
    return do(do(s, "tie_sound", sound=7), "set_along", lane="cover 1")


def locked() -> Story:
    """Cover lane 1 and the sounds are locked."""
    return do(do(laid(), "set_lock", lane="cover 1", locked=True), "set_lock", lane="sounds", locked=True)


def headed() -> Story:
    """Headings over the first and the third piece; a space cut in two at the end."""
    s = do(do(three(), "set_heading", piece=1, heading="River"), "set_heading", piece=3, heading="Night", target=9)
    return do(do(s, "insert_space", at=240, length=20), "split", at=250)


def titled() -> Story:
    """Two titles: one with a size of its own, one as it comes."""
    s = do(three(), "lay_title", at=110, text="Maren", length=60)
    return do(
        do(s, "set_value", to=4, setting="weight", value=300),
        "lay_title",
        at=10,
        text="River",
        length=50,
        by_clock=True,
    )


BEFORE = {
    "three": three,
    "laid": laid,
    "overrun": overrun,
    "many": many,
    "ended": ended,
    "swapped": swapped,
    "rising": rising,
    "faded": faded,
    "loosened": loosened,
    "tied": tied,
    "bunch": bunch,
    "marked": marked,
    "carded": carded,
    "joined": joined,
    "spaced": spaced,
    "cut": cut,
    "valued": valued,
    "retimed": retimed,
    "ramped": ramped,
    "paced": paced,
    "dipped": dipped,
    "along": along,
    "locked": locked,
    "headed": headed,
    "titled": titled,
}


def _piece(p: Piece) -> str:
    what = SOURCES[p.source].name if p.source else f"card {p.card.colour} {p.card.text}".rstrip() if p.card else "space"
    own = f" {p.start}-{p.end}" if p.source else f" {p.length}"
    more = [f"only {p.take}"] if p.take != "both" else []
    more += [f"group {p.group}"] if p.group else []
    return what + own + "".join(f", {x}" for x in (*more, *_values(p)))


def _values(x: Piece | Cover | Sound) -> list[str]:
    return [f"{n} {x.settings[n]}" for n in x.settings]


def _set(s: Story, j: Transition) -> str:
    set_ = [f"{j.blend} {j.length}"] if j.length else []
    set_ += [f"split {j.split:+d}"] if j.split else []
    set_ += [f"crossfade {j.cross}"] if j.cross else []
    return f"{j.left}/{j.right} {' '.join(set_)}"


def drawn(s: Story) -> str:
    """The story in one line: pieces; what is laid, with where it begins; what is set."""
    rows = ["| " + " | ".join(_piece(p) for p in s.pieces) + " |"]
    called = lambda x: SOURCES[x.source].name if x.source else "title"  # noqa: E731
    name = lambda x: f"{called(x)} {x.start}-{x.start + x.length}"  # noqa: E731
    for c in sorted(s.covers, key=lambda c: c.id):
        span = f" at {c.span}/{c.length}" if c.span else ""
        group = [f"group {c.group}"] if c.group else []
        rows.append(f"cover {c.lane}: {name(c)} @{s.at(c)}" + "".join(f", {x}" for x in (*group, *_values(c))) + span)
    for x in sorted(s.sounds, key=lambda x: x.id):
        clock = (
            " by the clock"
            if not x.tether.piece
            else " with its shot"
            if any(c.id == x.tether.piece for c in s.covers)
            else ""
        )
        group = [f"group {x.group}"] if x.group else []
        rows.append(
            f"{x.kind} {x.lane}: {name(x)} @{s.at(x)}{clock}" + "".join(f", {v}" for v in (*group, *_values(x)))
        )
    rows += [f"loose: {name(x)}" for x in (*s.loose, *s.loose_sounds)]
    rows += [f"seam {_set(s, j)}" for j in s.transitions]
    rows += [f"heading {x.piece} {x.heading} {x.target or ''}".rstrip() for x in s.sections]
    for m in s.markers:
        at = s.at_of(m.tether)
        rows.append(f"{m.shape} {m.id}{f' {m.name}' if m.name else ''} {f'@{at}' if at is not None else 'waits'}")
    for what, lanes in (("locked", s.locked), ("muted", s.muted), ("solo", s.soloed), ("along", s.along)):
        rows += [f"{what} {', '.join(sorted(lanes))}"] if lanes else []
    rows += [f"target {s.target}"] if s.target else []
    rows += [f"{scope}: {', '.join(f'{n} {v[n]}' for n in v)}" for scope, v in s.settings]
    return "; ".join(rows)


def asked(line: str) -> tuple[str, dict[str, object]]:
    """`insert at=0 source=2` -> its name and values."""
    name, *rest = re.findall(r'(?:[^\s"]|"[^"]*")+', line)
    params: dict[str, object] = {}
    for x in rest:
        key, _, text = x.partition("=")
        try:
            params[key] = ast.literal_eval(text)
        except (SyntaxError, ValueError):
            params[key] = text
    return name, params


def done(story: Story, line: str) -> list[str]:
    """What an edit makes and tells, in lines; what it refuses with, in one. `paste` takes what stands in [a, b), or
    these items."""
    name, params = asked(line)
    try:
        if name == "paste":
            params["clip"] = (
                copied_clips(story, params.pop("items"))  # type: ignore[arg-type]
                if "items" in params
                else copied(story, params.pop("a"), params.pop("b"))  # type: ignore[arg-type]
            )
        after, told = run(story, SOURCES, name, params)
    except Refused as e:
        return [f"refused: {e}"]
    head = "" if told.playhead is None else f" Playhead {told.playhead}."
    made = f" Made {', '.join(map(str, told.made))}." if told.made else ""
    return [drawn(after), f"{told.did}.{head}{made}", *(f"- {n}" for n in told.notes)]


def examples(path: Path) -> Iterator[tuple[str, str, list[str]]]:
    """(story before, edit, what follows) of a file of examples."""
    base, edit, lines = "", "", []
    for raw in path.read_text().splitlines():
        depth = len(raw) - len(raw.lstrip())
        if depth <= 2 and edit:
            yield base, edit, lines
            edit, lines = "", []
        if depth == 0:
            base = raw.strip()
        elif depth == 2:
            edit = raw.strip()
        elif edit:
            lines.append(raw.strip())
    if edit:
        yield base, edit, lines
