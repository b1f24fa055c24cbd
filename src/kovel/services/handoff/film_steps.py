"""How a film is made where there are several machines: each makes some of its parts, then one joins them.

groups   [parts 0 ......][parts 7 ...][parts 12 ....]      of rows of the plan; what is kept already is in none
worker 1 |==============|             |============|
worker 2 |=================|          (the same part on two machines: one file, whole either way)
film                                               |==|    all parts are found; what is not is made there

On one machine it is one call. Where the machines go away on the way, what is there counts, and the rest is made here.
"""

import time
from pathlib import Path
from typing import Any

from kovel.core.plan.outputs import Output
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import JobStep, Outcome, Result, SoFar, Steps, keep_result
from kovel.media.film_parts import FilmParts, drawn_sources
from kovel.store.jobs import Job

FILM = "film"  # the step that joins the parts
PARTS_DONE = 0.85  # how far a film is when all its parts are made
OF_PARTS = ("parts", "width", "height", "output", "drawn", "tables", "fonts", "begin", "drop")


Group = tuple[int, int, int]  # rows [first, last) of the plan, and how many parts they lack


def groups_of(params: dict[str, Any], output: Output) -> list[Group]:
    """What several machines could make side by side of a film; nothing where it is one call's work."""
    files = {int(key): file for key, file in params["files"].items()}
    tables, fonts = Path(params["tables"]), Path(params["fonts"])
    size = params["width"], params["height"]
    film = FilmParts(params["plan"], files, output, size, params["begin"], tables, fonts, None)
    try:
        found = film.groups(Path(params["parts"]))
    except OSError:  # a recording that is gone: the render says which
        return []
    return found if len(found) > 1 else []


def steps(job: Job, so_far: SoFar) -> list[JobStep]:
    """The parts of a film on as many machines as there are, then all of it; on one machine it is one call."""
    if any(step.name == FILM for step in so_far.under_way):
        return []
    groups = job.params.get("groups", []) if so_far.elsewhere else []
    given = so_far.ended | {step.name for step in so_far.under_way}
    lacking = [group for group in groups if _name_of(group) not in given]
    if lacking or so_far.under_way:
        return [_step_of(job.params, group) for group in lacking]
    return [JobStep(FILM, "render", {key: told for key, told in job.params.items() if key != "groups"}, 0)]


def _name_of(group: Group) -> str:
    return f"parts {group[0]}"


def _step_of(params: dict[str, Any], group: Group) -> JobStep:
    plan, (first, last, _) = params["plan"], group
    rows = plan["pictures"]
    until = rows[last][0] if last < len(rows) else plan["length"]
    stretch = {**plan, "pictures": rows[first:last], "sounds": []}
    files = {str(source): params["files"][str(source)] for source in drawn_sources(stretch["pictures"])}
    told = {key: params[key] for key in OF_PARTS}
    return JobStep(_name_of(group), "render_parts", {**told, "plan": stretch, "files": files, "until": until}, 0)


def progress(job: Job, so_far: SoFar) -> float:
    """How far a film is, 0 to 1: its parts by their frames, then what joins them."""
    groups = job.params.get("groups", [])
    if FILM in so_far.told or not groups:
        begun = PARTS_DONE if so_far.ended else 0.0
        return begun + (1 - begun) * so_far.told.get(FILM, 0.0)
    rows = job.params["plan"]["pictures"]
    done = total = 0.0
    for group in groups:
        frames, name = rows[group[1] - 1][1] - rows[group[0]][0], _name_of(group)
        total += frames
        done += frames * (1.0 if name in so_far.ended else so_far.told.get(name, 0.0))
    return PARTS_DONE * done / total


def take_step(data_folder: DataFolder, job: Job, step: JobStep, result: Result) -> Outcome:
    """What a step brought: the film's result is kept, with what all steps of it took and made."""
    if step.name != FILM:
        return Outcome(goes_on=True)
    if groups := job.params.get("groups"):
        made = max(result["anew"], min(result["parts"], sum(count for _, _, count in groups)))
        took = round(time.time() - job.started, 1) if job.started else result["took"]
        result = {**result, "anew": made, "took": took}
    return keep_result(data_folder, job, result)


RENDER_STEPS = Steps(steps, progress, take_step, spared=lambda job, step: False)
