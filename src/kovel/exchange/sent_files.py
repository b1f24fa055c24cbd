"""What somebody sends, taken apart in a child process with limits (media/child.py) into plain values: timelines,
captions, tables of colours, fonts. Nothing here knows a project; what the values mean is decided by whoever asked for
them, in the server.

    a.otio  --child-->  {"tracks": [...]}  --server-->  a story, or a refusal in words
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable
from fractions import Fraction
from hashlib import sha256
from pathlib import Path
from typing import Any

from kovel.core.picture import look as looks
from kovel.core.picture.colour import cube_text
from kovel.core.time.rate import Rate
from kovel.core.words.caption_text import plain
from kovel.exchange.caption_files import caption_blocks, read_captions
from kovel.media.files import Unusable
from kovel.media.title_pictures import check_font
from kovel.media.whole_files import written_whole

MOST_ITEMS = 50_000  # of one timeline
SLOWEST, FASTEST = 0.5, 1000.0  # units a second that a time may count in
LARGEST_TIME = 10**12  # of such units
DEEPEST = 60  # of metadata
Progress = Callable[[float], None]


def read_timeline(path: str, progress: Progress) -> dict[str, Any]:
    """A timeline (OpenTimelineIO's JSON) as plain values: name, tracks of items with exact times as [numerator,
    denominator] of seconds, markers, and what Kovel itself wrote beside it (`ours`), with whether it is unchanged
    since. `Unusable` for what is none."""
    import opentimelineio as otio  # only here: what others send is never parsed in the server

    try:
        tl = otio.adapters.read_from_string(Path(path).read_text("utf-8", "replace"), "otio_json")
        tl = next(iter(tl)) if isinstance(tl, otio.schema.SerializableCollection) and len(tl) else tl
    except Exception as error:
        raise Unusable(f"it is no timeline that can be read ({str(error)[:120]})") from None
    if not isinstance(tl, otio.schema.Timeline):
        raise Unusable("there is no timeline in it")
    if tl.tracks is None:
        raise Unusable("the timeline in it has no tracks")
    ours = _plain(tl.metadata.get("kovel", {}))
    if sum(len(track) for track in tl.tracks if isinstance(track, otio.schema.Track)) > MOST_ITEMS:
        raise Unusable("that timeline is too long")
    markers = []
    for marker in tl.tracks.markers:
        try:
            markers.append([str(marker.name), _pair(_seconds(marker.marked_range.start_time))])
        except ValueError:
            continue
    return {
        "name": str(tl.name or ""),
        "ours": ours if isinstance(ours, dict) else {},
        "unchanged": isinstance(ours, dict) and ours.get("fingerprint") == fingerprint(tl),
        "tracks": [_track(track) for track in tl.tracks if isinstance(track, otio.schema.Track)],
        "markers": markers,
    }


def fingerprint(tl: Any) -> str:
    """Of what a timeline shows and plays: another one where somebody changed it since; empty where that cannot be
    said."""
    import opentimelineio as otio

    try:
        track_rows = [
            [
                track.kind,
                type(x).__name__,
                x.name,
                str(x.range_in_parent()) if isinstance(x, otio.core.Item) else str(x.in_offset),
                str(x.source_range) if isinstance(x, otio.core.Item) else "",
            ]
            for track in tl.tracks
            for x in track
        ]
    except Exception:
        return ""
    return sha256(json.dumps(track_rows).encode()).hexdigest()


def _track(track: Any) -> dict[str, Any]:
    """A track's items in order, each at the seconds where those before it end."""
    import opentimelineio as otio

    items: list[dict[str, Any]] = []
    at = Fraction(0)
    for x in track:
        name = str(x.name or "")
        if isinstance(x, otio.schema.Transition):
            try:
                blend = _pair(_seconds(x.in_offset) + _seconds(x.out_offset))
            except (ValueError, AttributeError, TypeError):
                blend = [0, 1]
            items.append({"is": "transition", "name": name, "type": str(x.transition_type or ""), "blend": blend})
            continue
        try:
            length = _seconds(x.trimmed_range().duration)
            if length < 0:
                raise ValueError("it ends before it begins")
        except Exception:
            items.append({"is": "broken", "name": name, "at": _pair(at)})
            continue
        track_facts = {"is": "other", "type": type(x).__name__, "name": name, "at": _pair(at), "length": _pair(length)}
        if isinstance(x, otio.schema.Gap):
            track_facts["is"] = "gap"
        elif isinstance(x, otio.schema.Clip):
            track_facts |= _clip(x)
        items.append(track_facts)
        at += length
    return {"kind": str(track.kind), "name": str(track.name or ""), "items": items}


def _settings_of(x: Any) -> Any:
    """What Kovel wrote on a clip; `?` where that cannot be read."""
    try:
        kovel = _plain(x.metadata.get("kovel", {}))
        return kovel.get("settings") if isinstance(kovel, dict) else "?"
    except (ValueError, AttributeError, TypeError):
        return "?"


def _effect(effect: Any) -> list[Any]:
    """[how much faster it runs, or None where it is no change of pace; its name]."""
    import opentimelineio as otio

    scalar = getattr(effect, "time_scalar", None) if isinstance(effect, otio.schema.LinearTimeWarp) else None
    fine = isinstance(scalar, (int, float)) and math.isfinite(scalar) and abs(scalar) <= 1000
    name = str(effect.effect_name or effect.name or type(effect).__name__)
    return [float(scalar) if fine and scalar is not None else None, name]


def _clip(x: Any) -> dict[str, Any]:
    import opentimelineio as otio

    media = x.media_reference
    clip_facts: dict[str, Any] = {
        "is": "clip",
        "settings": None,
        "effects": [],
        "first": None,
        "begun": None,
        "url": "",
        "media": "",
        "generator": None,
    }
    clip_facts["settings"] = _settings_of(x)
    if isinstance(media, otio.schema.GeneratorReference):
        parameters = _plain(media.parameters)
        return clip_facts | {
            "generator": str(media.generator_kind),
            "parameters": parameters if isinstance(parameters, dict) else {},
        }
    clip_facts["url"] = str(getattr(media, "target_url", "") or "")
    clip_facts["media"] = str(getattr(media, "name", "") or "")
    try:
        clip_facts["first"] = _pair(_seconds(x.source_range.start_time)) if x.source_range else None
        clip_facts["begun"] = (
            _pair(_seconds(media.available_range.start_time)) if media is not None and media.available_range else None
        )
    except (ValueError, AttributeError):
        clip_facts["is"] = "broken"
    clip_facts["effects"] = [_effect(effect) for effect in x.effects]
    return clip_facts


def _pair(x: Fraction) -> list[int]:
    return [x.numerator, x.denominator]


def _seconds(t: Any) -> Fraction:
    """A time of the library as exact seconds; `ValueError` for what is none."""
    frame_rate, value = float(t.rate), float(t.value)
    if not (
        math.isfinite(frame_rate)
        and math.isfinite(value)
        and SLOWEST <= frame_rate <= FASTEST
        and abs(value) <= LARGEST_TIME
    ):
        raise ValueError(f"{value} at {frame_rate} is no time")
    own_rate = Rate.nearest(Fraction(frame_rate).limit_denominator(1001))
    exact = (
        own_rate.fps if abs(float(own_rate.fps) - frame_rate) < 0.01 else Fraction(frame_rate).limit_denominator(1001)
    )
    return Fraction(value).limit_denominator(1_000_000) / exact


def _plain(x: Any, deep: int = 0) -> Any:
    """Metadata as plain values; `ValueError` where it has no end."""
    if deep > DEEPEST:
        raise ValueError("metadata without end")
    if hasattr(x, "items"):
        return {str(key): _plain(value, deep + 1) for key, value in x.items()}
    if isinstance(x, (list, tuple)) or type(x).__name__ == "AnyVector":
        return [_plain(v, deep + 1) for v in x]
    if isinstance(x, float):
        return x if math.isfinite(x) else None
    return x if x is None or isinstance(x, (str, int, bool)) else str(x)


EVENT = re.compile(
    r"^\s*(\d+)\s+(\S+)\s+(\S+)\s+(C|D|W\d*|K\S*)\s*(\d+)?"
    r"\s+(\d\d:\d\d:\d\d[:;.]\d\d)\s+(\d\d:\d\d:\d\d[:;.]\d\d)\s+(\d\d:\d\d:\d\d[:;.]\d\d)\s+(\d\d:\d\d:\d\d[:;.]\d\d)"
)
LONGEST_LINE = 2_000


def read_events(path: str, progress: Progress) -> dict[str, Any]:
    """The events of an edit decision list of the common layout: [line, [number, reel, track, transition, its length,
    source in and out, record in and out], notes]; and the list's name."""
    name, events = "", []  # type: str, list[tuple[int, list[str], list[str]]]
    for number, text_line in enumerate(Path(path).read_text("utf-8").split("\n"), 1):
        text_line = text_line[:LONGEST_LINE].rstrip("\r")
        if text_line.startswith("TITLE:"):
            name = text_line[6:].strip()[:80] or name
        elif match := EVENT.match(text_line):
            events.append((number, [group or "" for group in match.groups()], []))
        elif events and text_line.strip():
            events[-1][2].append(text_line.strip())
    if not events:
        raise Unusable("there is no event in that list that can be read")
    if len(events) > MOST_ITEMS:
        raise Unusable("that list is too long")
    return {"name": name, "events": events}


def read_words(path: str, progress: Progress) -> dict[str, Any]:
    """Words of a caption file, as [text, start, end, speaker] in samples, and what could not be taken, as [line,
    why]."""
    got = read_captions(Path(path).read_text("utf-8"))
    return {
        "words": [[word.text, word.start, word.end, word.speaker] for word in got.words],
        "refused": [list(r) for r in got.refused],
    }


def read_cues(path: str, most: int, progress: Progress) -> dict[str, Any]:
    """Cues of a caption file, as [start, end, lines, speaker] in samples, and what could not be taken, as [line,
    why]."""
    blocks, refused = caption_blocks(Path(path).read_text("utf-8"))
    cues: list[list[Any]] = []
    for block in sorted(blocks[:most], key=lambda block: (block.start, block.end)):
        lines = [cue_line for cue_line in map(plain, block.text.split("\n")) if cue_line]
        if lines:
            cues.append([block.start, block.end, lines, block.speaker])
        else:
            refused.append((block.line, "it says nothing"))
    return {"cues": cues, "refused": [list(r) for r in sorted(refused)]}


def read_table(path: str, out: str, progress: Progress) -> dict[str, Any]:
    """A .cube table of colours, read and written again as `out`."""
    try:
        text = Path(path).read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Unusable("it is not text. A .cube file is") from None
    try:
        table = looks.read_cube(text)
    except looks.BadTable as error:
        raise Unusable(str(error)) from None
    with written_whole(Path(out)) as part:
        part.write_text(cube_text(table))
    return {}


def read_font(path: str, progress: Progress) -> dict[str, Any]:
    """What a font calls itself; `Unusable` for what is none."""
    return {"family": check_font(Path(path))}
