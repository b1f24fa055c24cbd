"""Examples of plans as text: a story, edits in one line, and what it shows and lets hear in a few.

three
  set_blend piece=2 blend=dissolve length=12; set_value to=1 setting=level value=-6
    0-94 A 100
    94-106 A 194 / A 294, at 1+1k of 13
    heard A 100 at 0-100 of 1, gain 0.5012

Layers stand bottom first with a stroke between. `at a+bk of c` is an opacity of (a + b k) / c in frame k; `x p/q +s`
a speed of p frames of the shot to q of the story, s story frames of which have gone by. Sounds are in frames, `+n`
samples. What a recording itself is set to is said by `recording`; a space in a value is written `~`.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from kovel.core.plan.layers import EVERYWHERE, OPAQUE, WHOLE, Layer, Opacity
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.plan.sounds import AS_IT_IS, RAMP, Heard
from kovel.core.story.catalogue import run
from kovel.core.story.values import on_recording
from tests.core.examples import BEFORE, asked
from tests.core.stories import SOURCES, R


def _share(o: Opacity) -> str:
    return f"{o.first}{f'{o.step:+d}k' if o.step else ''} of {o.of}"


def _layer(x: Layer) -> str:
    i = x.image
    if i.stack:
        what = f"[{' / '.join(map(_layer, i.stack))}]" + (f" of group {i.group}" if i.group else "")
        what += f" in the letters of {_layer(i.cut)}" if i.cut else ""
    elif i.title:
        rows = dict(i.title.rows)
        what = f"“{rows['text']}”" + "".join(f" {n} {rows[n]}" for n in ("size", "box", "edge"))
    elif i.card:
        what = f"card {i.card.colour} {i.card.text}".rstrip()
    elif i.source is None:
        what = "black"
    else:
        what = f"{SOURCES[i.source].name} {i.start}"
        what += f" x {i.speed[0]}/{i.speed[1]} {i.skip:+d}" if i.speed != (1, 1) else ""
    more = [f"at {_share(x.opacity)}"] if x.opacity != OPAQUE else []
    more += [f"letters {_share(x.letters)}"] if x.letters != OPAQUE else []
    more += [f"{n} {v}" for n, v in x.part.to_json().items()] if x.part != WHOLE else []
    more += [f"in {x.place.x:.3g} {x.place.y:.3g} {x.place.w:.3g} {x.place.h:.3g}"] if x.place != EVERYWHERE else []
    more += [f"look {' then '.join(', '.join(f'{n} {v}' for n, v in rows) for rows in x.look)}"] if x.look else []
    return ", ".join([what, *more])


def _frames(samples: int) -> str:
    f, rest = divmod(samples, R.frame_to_sample(1))
    return f"{f}+{rest}" if rest else str(f)


def _sound(h: Heard) -> str:
    more = [f"gain {h.gain:.4g}"] if h.gain != 1 else []
    more += [f"rise {_frames(h.rise)}"] if h.rise != RAMP else []
    more += [f"fall {_frames(h.fall)}"] if h.fall != RAMP else []
    more += ["straight"] if h.straight else []
    more += [f"line {', '.join(f'{_frames(m)} {db:g}' for m, db in h.line)}"] if h.line else []
    more += [f"mix {' '.join(f'{v:g}' for v in h.mix)}"] if h.mix != AS_IT_IS else []
    if h.pace:
        p = h.pace
        way = f"{p.speed[0]}/{p.speed[1]}" if not p.line else f"ramp {'' if p.soft else 'in steps '}{list(p.line)}"
        more += [
            f"retimed {way} from {p.anchor}, {p.first} to {p.first + p.length} of a clock from "
            f"{p.start[0]}/{p.start[1]}"
            f"{', backwards' if p.backwards else ''}{', pitch kept' if p.pitch else ''}{', cleaned' if p.of else ''}"
        ]
    elif h.made:
        more += ["cleaned"]
    return f"{SOURCES[h.source].name} {_frames(h.start)} at {_frames(h.at)}-{_frames(h.end)} of {h.of}" + "".join(
        f", {m}" for m in more
    )


def plan_of(base: str, edits: str) -> Plan:
    """The plan of a story after some edits."""
    story, sources = BEFORE[base](), dict(SOURCES)
    for line in filter(None, map(str.strip, edits.split(";"))):
        name, params = asked(line)
        params = {k: v.replace("~", " ") if isinstance(v, str) else v for k, v in params.items()}
        if name == "recording":
            r = sources[params["source"]]  # type: ignore[index]
            sources[r.id] = replace(r, settings=on_recording(r, str(params["setting"]), params["value"]))
        elif name != "as-is":
            story = run(story, sources, name, params)[0]
    return make_plan(story, sources)


def planned(plan: Plan) -> Iterator[str]:
    """A plan as text: a line for each run and each sound."""
    for p in plan.pictures:
        cover = f" (cover {p.cover})" if p.cover else ""
        yield f"{p.at}-{p.end}{cover} " + " / ".join(map(_layer, p.layers))
    for h in plan.sounds:
        yield f"heard {_sound(h)}"
    if plan.dips:
        yield "dips " + ", ".join(f"{_frames(m)} {db:g}" for m, db in plan.dips)
