"""A film in parts that are made one by one and kept: after a small change only those that hold other pictures are made
anew.

plan       [ A ......... ][ B ... ][ C .. ][ D ............ ]      cut where runs meet, and in long shots where the
parts      [ 1     ][ 2          ][ 3              ][ 4     ]      recording's own clock passes a multiple of ANCHOR

Where a part ends is told by what it holds, not by where it stands: behind a change the parts are soon the same again.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from hashlib import sha256
from math import ceil
from typing import Any

from kovel.core.plan.layers import Run
from kovel.core.plan.plan import Plan

ANCHOR = 250  # frames of a recording's clock
LEAST = 75  # frames of a part, so far as there are
MOST = 250

Row = Sequence[Any]  # [at, end, layers] of a plan's JSON


def divided(plan: Plan) -> Plan:
    """The plan with its long runs cut where the clock of what they show passes a multiple of ANCHOR."""
    runs: list[Run] = []
    for run in plan.pictures:
        p, q = run.image.speed
        clock, at = run.start + Fraction(run.image.skip * abs(p), q), run.at
        while run.end - at > ANCHOR:
            gone = clock + Fraction((at - run.at) * p, q)
            step = ceil((ANCHOR - gone % ANCHOR) * q / p) if p > 0 else ANCHOR
            cut_frame = at + max(1, step)
            if cut_frame >= run.end:
                break
            runs.append(run.part(at, cut_frame))
            at = cut_frame
        runs.append(run.part(at, run.end))
    return replace(plan, pictures=tuple(runs))


def stretches(picture_runs: Sequence[Row]) -> list[tuple[int, int]]:
    """Which rows make a part: index ranges that fill all of them. A part ends behind a row that says so by what it
    holds, once it is LEAST long; at the latest before it would be longer than MOST."""
    found_stretches: list[tuple[int, int]] = []
    first = 0
    for index, (at, end, layers) in enumerate(picture_runs):
        begun = picture_runs[first][0]
        if index > first and end - begun > MOST:
            found_stretches.append((first, index))
            first, begun = index, at
        ends = int(sha256(json.dumps([end - at, layers]).encode()).hexdigest()[:2], 16) % 2 == 0
        if end - begun >= LEAST and ends:
            found_stretches.append((first, index + 1))
            first = index + 1
    if first < len(picture_runs):
        found_stretches.append((first, len(picture_runs)))
    return found_stretches


def name_of(picture_runs: Sequence[Row], made_with: Any) -> str:
    """The name of a part: what is seen in it, and all that decides how it is made."""
    first = picture_runs[0][0]
    seen = [[at - first, end - first, layers] for at, end, layers in picture_runs]
    return sha256(json.dumps([seen, made_with], sort_keys=True).encode()).hexdigest()[:32]
