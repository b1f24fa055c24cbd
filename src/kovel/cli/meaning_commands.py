"""Themes of what is said, what was told twice, and a first radio cut."""

from pathlib import Path

import click

from kovel.cli.common import answer, data_option, json_option, open_data, project_option, the_project, wait_for
from kovel.core.errors import Invalid, Missing
from kovel.core.time.timecode import TimeError, parse_seconds, running
from kovel.core.words.radio_cut import Order
from kovel.data_folder import DataFolder
from kovel.services.log import proposing, sentence_meaning, theming
from kovel.store import recordings


def worked_out(data: DataFolder, project: int, quiet: bool) -> None:
    """Wait until the meaning of everything that is said is there."""
    job = sentence_meaning.work_out(data, project)
    if job:
        (done,) = wait_for(data, [job.id], quiet=quiet)
        if not done.is_done:
            raise Invalid(done.message or "It was stopped.")


@click.command()
@click.option("--anew", is_flag=True, help="Group anew around what was named, moved, merged or split by hand.")
@click.option("--twice", is_flag=True, help="What was told twice, instead.")
@data_option
@project_option
@json_option
def themes(anew: bool, twice: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """What all interviews have in common: their statements grouped by meaning, with how much is said and kept of each."""
    data = open_data(folder)
    p = the_project(data, project_name)
    worked_out(data, p.id, as_json)
    names = {r.id: r.name for r in recordings.of_project(data.db, p.id)}
    if twice:
        rows = theming.told_twice(data, p.id)
        pair = [
            [
                {"recording": names[s.recording], "start": s.start / 48000, "end": s.end / 48000, "text": s.text}
                for s in (t.a, t.b)
            ]
            for t in rows
        ]
        value = [{"a": a, "b": b, "alike": round(t.alike, 3), "better": t.better} for (a, b), t in zip(pair, rows, strict=True)]
        text = "\n".join(
            f"{t.alike:.2f}  {names[t.a.recording]}: {t.a.text}\n      {names[t.b.recording]}: {t.b.text}" for t in rows
        )
        return answer(as_json, {"pairs": value}, text or "Nothing is told twice.")
    found = theming.listing(data, p.id)
    if anew or not found:
        found = theming.group(data, p.id)
    told = [
        {
            "id": t.id, "name": t.name, "aside": t.aside, "said": t.said / 48000, "kept": t.kept / 48000,
            "statements": [
                {"recording": names[x.statement.recording], "start": x.statement.start / 48000, "end": x.statement.end / 48000,
                 "speaker": x.statement.speaker, "text": x.statement.text}
                for x in t.shown
            ],
        }
        for t in found
    ]  # fmt: skip
    lines = []
    for t in found:
        lines.append(
            f"{t.id:>4}  {t.name}{' (set aside)' if t.aside else ''}: {t.said / 48000:.0f} s said, {t.kept / 48000:.0f} s kept"
        )
        for x in t.shown:
            at = running(p.rate.sample_to_frame(x.statement.start), p.rate)
            lines.append(f"        {names[x.statement.recording]}  {at}  {x.statement.text[:90]}")
    return answer(as_json, {"themes": told}, "\n".join(lines))


@click.command()
@click.option("--length", required=True, help="How long it should be: 2m, 90s, 1m30s.")
@click.option("--theme", "chosen", multiple=True, help="A theme, by name or number (default: all that are not set aside).")
@click.option("--order", type=click.Choice(["theme", "time"]), default="theme", show_default=True)
@data_option
@project_option
@json_option
def propose(
    length: str, chosen: tuple[str, ...], order: Order, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """A first radio cut to judge: whole sentences, nothing told twice, as a new story beside the others."""
    data = open_data(folder)
    p = the_project(data, project_name)
    try:
        seconds = float(parse_seconds(length, p.rate))
    except TimeError as e:
        raise Invalid(str(e)) from None
    worked_out(data, p.id, as_json)
    rows = theming.listing(data, p.id) or theming.group(data, p.id)
    ids = []
    for name in chosen:
        found = [t for t in rows if name in (str(t.id), t.name)]
        if not found:
            raise Missing(f"There is no theme called {name}. `kovel themes` shows them.")
        ids.append(found[0].id)
    done = proposing.propose(data, p.id, seconds, ids, order)
    value = {
        "story": done.story,
        "name": done.name,
        "frames": done.length,
        "seconds": float(done.length / p.rate.fps),
        "why": list(done.why),
    }
    answer(as_json, value, "\n".join([f"{done.name}: story {done.story}, {float(done.length / p.rate.fps):.1f} s", *done.why]))
