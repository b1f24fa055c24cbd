"""OpenTimelineIO in: a timeline made elsewhere as a story here; one that Kovel wrote, unchanged, as the very same story."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from hashlib import sha256
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlparse

import opentimelineio as otio

from kovel.core.story.model import Card, Refused, Story
from kovel.core.story.patch import SETS, story_from_json, story_to_json
from kovel.core.story.settings import NONE, Values
from kovel.core.time.rate import Rate
from kovel.exchange.uses import ABSENT, MOST, Taken, Use, built, found, headed
from kovel.store.projects import Project
from kovel.store.recordings import Recording

SOURCED = ("pieces", "covers", "loose", "sounds", "loose_sounds")


def fingerprint(tl: otio.schema.Timeline) -> str:
    """Of what a timeline shows and plays: another one where somebody changed it since."""
    rows = [
        [t.kind, type(x).__name__, x.name, str(x.range_in_parent()) if isinstance(x, otio.core.Item) else str(x.in_offset),
         str(x.source_range) if isinstance(x, otio.core.Item) else ""]
        for t in tl.tracks for x in t
    ]  # fmt: skip
    return sha256(json.dumps(rows).encode()).hexdigest()


def from_otio(text: str, project: Project, recordings: dict[int, Recording]) -> Taken:
    """Read a timeline (OpenTimelineIO's JSON). One that Kovel wrote and nobody changed since is the same story again."""
    try:
        tl = otio.adapters.read_from_string(text, "otio_json")
        tl = next(iter(tl)) if isinstance(tl, otio.schema.SerializableCollection) and len(tl) else tl
    except Exception as e:
        raise Refused(f"That is no timeline that can be read ({str(e)[:120]}).") from None
    if not isinstance(tl, otio.schema.Timeline):
        raise Refused("There is no timeline in that file.")
    ours = tl.metadata.get("kovel", {})
    if "story" in ours and ours.get("fingerprint") == fingerprint(tl) and (same := _ours(ours, project, recordings)):
        return Taken(tl.name or "Timeline", same)
    left: list[str] = []
    tracks = {"Video": [], "Audio": []}  # type: dict[str, list[list[Use]]]
    for t in tl.tracks:
        uses = _uses(t, project, recordings, left)
        if t.kind in tracks and (uses or t.kind == "Video"):
            tracks[t.kind].append(uses)
    if sum(len(t) for rows in tracks.values() for t in rows) > MOST:
        raise Refused("That timeline is too long.")
    while tracks["Video"] and not tracks["Video"][0] and len(tracks["Video"]) > 1:
        tracks["Video"].pop(0)
    base = tracks["Video"][0] if tracks["Video"] else []
    story = built(project.rate, base, tracks["Video"][1:], tracks["Audio"], recordings, left)
    marks = [(m.name, _frames(m.marked_range.start_time, project.rate)) for m in tl.tracks.markers]
    return Taken(tl.name or "Timeline", headed(story, marks), left)


def _ours(d: Any, project: Project, recordings: dict[int, Recording]) -> Story | None:
    """The very story that was written, its recordings found by checksum, else by path; None where one is not here."""
    kept = json.loads(json.dumps(_plain(d["story"])))
    if kept["rate"] != [project.rate.num, project.rate.den]:
        return None
    ids: dict[int, int] = {}
    for old, (checksum, path) in _plain(d["recordings"]).items():
        found = [r.id for r in recordings.values() if (checksum and r.checksum == checksum)] or [
            r.id for r in recordings.values() if r.path == path
        ]
        if not found:
            return None
        ids[int(old)] = found[0] if int(old) not in found else int(old)
    for k in SOURCED:
        for row in kept[k]:
            row[1] = ids.get(row[1], row[1])
    try:
        return story_from_json(kept)
    except (ValueError, TypeError, KeyError, IndexError):
        return None


def _plain(x: Any) -> Any:
    """Metadata as plain values."""
    if isinstance(x, (otio._otio.AnyDictionary, dict)):
        return {k: _plain(v) for k, v in x.items()}
    if isinstance(x, (otio._otio.AnyVector, list, tuple)):
        return [_plain(v) for v in x]
    return x


def _frames(t: otio.opentime.RationalTime, rate: Rate) -> int:
    return rate.seconds_to_frame(_seconds(t))


def _seconds(t: otio.opentime.RationalTime) -> Fraction:
    own = Rate.nearest(Fraction(t.rate).limit_denominator(1001))
    exact = own.fps if abs(float(own.fps) - t.rate) < 0.01 else Fraction(t.rate).limit_denominator(1001)
    return Fraction(t.value).limit_denominator(1_000_000) / exact


def _uses(track: otio.schema.Track, project: Project, recordings: dict[int, Recording], left: list[str]) -> list[Use]:
    """The clips of a track as uses of recordings, in order; what cannot be taken is told in `left`."""
    out: list[Use] = []
    blend, rate = 0, project.rate
    for x in track:
        if isinstance(x, otio.schema.Transition):
            blend = _frames(x.in_offset, rate) + _frames(x.out_offset, rate)
            if x.transition_type != otio.schema.TransitionTypes.SMPTE_Dissolve:
                left.append(f"A transition of another kind ({x.transition_type or x.name}) became a cut.")
                blend = 0
            continue
        span = x.range_in_parent()
        at, end = _frames(span.start_time, rate), _frames(span.end_time_exclusive(), rate)
        where = f"{project.timecode(at)} on {track.name or track.kind}"
        if isinstance(x, otio.schema.Gap) or end <= at:
            blend = 0
            continue
        if not isinstance(x, otio.schema.Clip):
            left.append(f"{where}: “{x.name}” is a {type(x).__name__.lower()} inside the timeline; only clips are taken.")
            continue
        u = _use(x, at, end, rate, recordings, left, where)
        if u is not None:
            out.append(replace(u, blend=blend))
        blend = 0
    return out


def _use(
    x: otio.schema.Clip, at: int, end: int, rate: Rate, recordings: dict[int, Recording], left: list[str], where: str
) -> Use | None:
    own = NONE
    try:
        own = Values.from_json(_plain(x.metadata.get("kovel", {}).get("settings", {})))
    except (ValueError, AttributeError, TypeError):
        left.append(f"{where}: what is set on “{x.name}” cannot be read.")
    media = x.media_reference
    if isinstance(media, otio.schema.GeneratorReference):
        p = _plain(media.parameters)
        if media.generator_kind == "Title":
            return Use(at, end, 0, settings=own)
        if media.generator_kind == "SolidColor":
            return Use(at, end, None, card=Card(str(p.get("colour", "#000000")), str(p.get("text", ""))))
        left.append(f"{where}: “{x.name}” is made by a generator ({media.generator_kind}) that is not known here.")
        return None
    url = getattr(media, "target_url", "") or ""
    file = Path(unquote(urlparse(url).path)).name
    first = _seconds(x.source_range.start_time) if x.source_range else Fraction(0)
    begun = _seconds(media.available_range.start_time) if media is not None and media.available_range else None
    r = found(recordings, (file, getattr(media, "name", ""), x.name), None if begun is not None else first)
    if r is None:
        left.append(f"{where}: {file or x.name or 'a clip without a name'} {ABSENT}.")
        return None
    speed = Fraction(1)
    for e in x.effects:
        if isinstance(e, otio.schema.LinearTimeWarp):
            speed = Fraction(e.time_scalar).limit_denominator(10_000)
        else:
            left.append(f"{where}: the effect {e.effect_name or e.name or type(e).__name__} on “{x.name}” is not taken.")
    zero = rate.seconds_to_frame(begun) if begun is not None else rate.seconds_to_frame(r.rate.frame_to_seconds(r.first))
    start = rate.seconds_to_frame(first) - zero
    if begun is None and start < 0:  # counted from its beginning, without timecode
        start = rate.seconds_to_frame(first)
    return Use(at, end, r.id, start, speed, settings=own)


def described(story: Story, recordings: dict[int, Recording]) -> dict[str, Any]:
    """What `from_otio` needs to give the very same story back."""
    used = {x.source for k in SOURCED for x in getattr(story, k) if x.source}
    rows = {str(i): [recordings[i].checksum, recordings[i].path] for i in sorted(used) if i in recordings}
    kept = story_to_json(story)
    return {
        "story": json.loads(json.dumps({k: v for k, v in kept.items() if v or k in (*SETS, "rate", "next_id", *SOURCED)})),
        "recordings": rows,
    }
