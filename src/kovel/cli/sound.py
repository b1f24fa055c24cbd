"""Sound from the command line: cleaning a file, loudness, music fitted to a length, and the Sound room's actions on
a story."""

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click
import numpy as np

from kovel.cli.common import answer, data_option, json_option, open_data, project_option, the_project, typed
from kovel.core.errors import Invalid
from kovel.core.sound.ducking import Ducking
from kovel.core.story.settings import CLEANING, SETTINGS
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.media.soundtrack import samples_of, write_wav
from kovel.services.handoff.stems import write_stems
from kovel.services.single_file import ready
from kovel.services.sound import mixing
from kovel.store import stories


def _range(name: str) -> click.IntRange:
    """What the catalogue allows for a setting."""
    return click.IntRange(int(SETTINGS[name].low), int(SETTINGS[name].high))


F = TypeVar("F", bound=Callable[..., Any])


def _cleaning_options(command: F) -> F:
    """An option for each setting that cleans a recording, as the catalogue declares them."""
    for name in reversed(CLEANING):
        setting = SETTINGS[name]
        unit = f", {setting.low:g} to {setting.high:g} {setting.unit}; 0: not" if setting.unit else ""
        option = click.option(
            f"--{name.replace('_', '-')}",
            default=setting.default,
            show_default=bool(setting.choices),
            is_flag=isinstance(setting.default, bool),
            type=_range(name) if setting.unit else click.Choice(setting.choices) if setting.choices else None,
            help=f"{setting.label}{unit}.",
        )
        command = option(command)
    return command


def _new(path: Path) -> Path:
    if path.exists():
        raise Invalid(f"{path.name} is there already. Name another file with --out.")
    if not path.parent.is_dir():
        raise Invalid(f"There is no folder {path.parent} to write into.")
    return path


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The WAV file to write.")
@_cleaning_options
@json_option
def clean(file: Path, out: Path, as_json: bool, **wanted: Any) -> None:
    """The sound of FILE cleaned, as a WAV file. FILE stays as it is."""
    if all(value == SETTINGS[name].default for name, value in wanted.items()):
        *several, last = (f"--{name.replace('_', '-')}" for name in CLEANING)
        raise Invalid(f"Say what is to be taken out: {', '.join(several)} or {last}.")
    _new(out)
    with ready(file) as this_ready:
        found_noise = call(
            "clean", {"out": str(this_ready.folder), "channels": this_ready.channels, "name": "clean", "wanted": wanted}
        )
        write_wav(out, np.asarray(samples_of(this_ready.folder / "made" / "clean.pcm", this_ready.channels)))
    hum_found = ", ".join(f"{hum_frequency:g}" for hum_frequency in found_noise["hum"])
    said_hum = (
        f"hum at {hum_found} Hz taken out"
        if found_noise["hum"]
        else "no hum found"
        if wanted["hum"] == "find it"
        else ""
    )
    answer(
        as_json,
        {"out": str(out), "hum": found_noise["hum"]},
        "\n".join(text for text in (f"Written: {out}", said_hum) if text),
    )


@click.command()
@click.argument("what")
@data_option
@project_option
@json_option
def loudness(what: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Loudness, its range and true peak of a FILE, or of the open `story` (ITU-R BS.1770, EBU R 128)."""
    if what == "story":
        data_folder = open_data(folder)
        project = the_project(data_folder, project_name)
        measured = mixing.measure(
            data_folder, project.id, stories.load(data_folder.db, stories.current(data_folder.db, project.id)).story
        )
    else:
        with ready(Path(what), levels=False) as this_ready:
            plan = {
                "rate": [25, 1],
                "length": -(-this_ready.samples // 1920),
                "samples": this_ready.samples,
                "dips": [],
                "sounds": [[0, this_ready.samples, 1, 0, 1.0, 1, 1, 0]],
            }
            files = {"1": {"pcm": str(this_ready.folder / "sound.pcm"), "channels": this_ready.channels}}
            got = call("measure", {"plan": plan, "files": files})
            measured = mixing.Measured(np.array(got["power"]), np.array(got["peaks"]))
    whole, lra = measured.loudness, measured.range
    loudness_row = {
        "lufs": None if whole is None else round(whole, 2),
        "range": None if lra is None else round(lra, 2),
        "true_peak": round(measured.peak, 2),
        "momentary_max": round(float(measured.momentary.max(initial=-120)), 2),
        "short_term_max": round(float(measured.short.max(initial=-120)), 2),
    }
    loud = "silent" if whole is None else f"{whole:.1f} LUFS"
    range_ = "too short for a range" if lra is None else f"range {lra:.1f} LU"
    answer(as_json, loudness_row, f"{loud}, {range_}, true peak {measured.peak:.1f} dBTP")


@click.command("music-fit")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--length", required=True, help="How long it is to be: 45s, 1:30, or frames at 25.")
@click.option("--out", type=click.Path(path_type=Path), help="Also write it as a WAV file.")
@json_option
def music_fit(file: Path, length: str, out: Path | None, as_json: bool) -> None:
    """FILE's music fitted to a length by whole bars: which parts follow each other, where it is joined, how alike."""
    from kovel.core.sound.beats import find_beats
    from kovel.core.sound.music_fit import CannotFit, beat_pictures, fit, likeness
    from kovel.media.listen import sound24
    from kovel.services.handoff.stems import joined_music

    frame_rate = Rate(25)
    wanted = frame_rate.frame_to_sample(typed(length, frame_rate))
    if out:
        _new(out)
    with ready(file, levels=False) as this_ready:
        sound = sound24(this_ready.folder, this_ready.channels)
        beats = find_beats(sound)
        try:
            alike = (
                likeness(beat_pictures(sound, beats.beats), beats.first, beats.bar)
                if beats.beats
                else np.zeros((0, 0), np.float32)
            )
            done = fit(beats, this_ready.samples, wanted, alike)
        except CannotFit as error:
            raise Unusable(f"{file.name}: {error}") from None
        if out:
            write_wav(out, joined_music(samples_of(this_ready.folder / "sound.pcm", this_ready.channels), done))
    fitted_row = {
        "length": done.length / SAMPLE_RATE,
        "over": done.over / SAMPLE_RATE,
        "tempo": beats.tempo,
        "ranges": [[a / SAMPLE_RATE, range_end / SAMPLE_RATE] for a, range_end in done.ranges],
        "seams": [
            {
                "at": seam.at / SAMPLE_RATE,
                "from": seam.end / SAMPLE_RATE,
                "to": seam.start / SAMPLE_RATE,
                "alike": seam.alike,
            }
            for seam in done.seams
        ],
    }
    text = [f"{done.length / SAMPLE_RATE:.2f} s ({done.over / SAMPLE_RATE:+.2f} s), {beats.tempo:.1f} beats a minute"]
    text += [
        f"  at {seam.at / SAMPLE_RATE:.2f} s on from {seam.end / SAMPLE_RATE:.2f} to {seam.start / SAMPLE_RATE:.2f} "
        f"s, {seam.alike:.0%} alike"
        for seam in done.seams
    ]
    answer(as_json, fitted_row, "\n".join(text))


@click.group()
def sound() -> None:
    """The story's sound: voices evened out, music ducked and fitted, room tone, the whole to its loudness, stems."""


def _do(folder: Path | None, project_name: str | None, as_json: bool, work: Any) -> None:
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    story_id = stories.current(data_folder.db, project.id)
    asked_edit, more_lines = work(data_folder, project, stories.load(data_folder.db, story_id).story)
    kept_story, done = stories.edit(data_folder.db, story_id, None, *asked_edit)
    value = {
        "revision": kept_story.revision,
        "did": done.did,
        "notes": list(done.notes),
        "made": list(done.made),
        **more_lines,
    }
    answer(as_json, value, "\n".join([done.did, *(f"  {note}" for note in done.notes)]))


@sound.command("even")
@click.option("--by", "apart", default="speaker", type=click.Choice(["speaker", "piece"]))
@data_option
@project_option
@json_option
def even_(apart: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Every voice to the loudness aimed at, by its speech alone."""

    def work(data: Any, p: Any, story: Any) -> Any:
        asked_edit, found_levels = mixing.even_voices(data, p.id, story, apart)
        return asked_edit, {
            "voices": [{"name": voice.name, "lufs": round(voice.loudness, 2)} for voice in found_levels]
        }

    _do(folder, project_name, as_json, work)


@sound.command("duck")
@click.option("--depth", default=12.0, type=click.FloatRange(1, 60), help="Down by so many dB.")
@click.option("--down", default="8f")
@click.option("--hold", default="1s")
@click.option("--back", default="1s")
@data_option
@project_option
@json_option
def duck_(
    depth: float, down: str, hold: str, back: str, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """All music goes down where somebody speaks."""

    def work(data: Any, p: Any, story: Any) -> Any:
        how = Ducking(-depth, *(typed(text, p.rate) for text in (down, hold, back)))
        return mixing.duck(data, p.id, story, [], how), {}

    _do(folder, project_name, as_json, work)


@sound.command("target", context_settings={"ignore_unknown_options": True})
@click.argument("lufs", default=-23.0, type=click.FloatRange(-40, -8))
@data_option
@project_option
@json_option
def target_(lufs: float, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """The whole to LUFS, its peaks under -1 dBTP."""
    _do(folder, project_name, as_json, lambda data, p, story: mixing.to_target(data, p.id, story, lufs))


@sound.command("fit")
@click.argument("number", type=int)
@data_option
@project_option
@json_option
def fit_(number: int, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Sound NUMBER fitted by bars, so that it ends with the pictures."""

    def work(data: Any, p: Any, story: Any) -> Any:
        asked_edit, found_fit = mixing.fit_music(data, p.id, story, number)
        return asked_edit, {"seams": found_fit}

    _do(folder, project_name, as_json, work)


@sound.command("spread")
@click.argument("number", type=int)
@click.option(
    "--bars",
    default=1,
    type=click.IntRange(1, 16),
    help="How many bars each bite begins after the one before at least.",
)
@data_option
@project_option
@json_option
def spread_(number: int, bars: int, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Bites along the music that is sound NUMBER, each on a bar."""
    _do(folder, project_name, as_json, lambda data, p, story: (mixing.spread(data, story, number, bars), {}))


@sound.command("tone")
@data_option
@project_option
@json_option
def tone_(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Room tone under every space."""
    _do(folder, project_name, as_json, lambda data, p, story: (mixing.lay_room_tone(data, p.id, story), {}))


@sound.command("stems")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, file_okay=False), help="Folder to write them into."
)
@data_option
@project_option
@json_option
def stems_(out: Path, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Dialogue, natural sound, effects, voice and music each as a WAV file as long as the story; together they are
    the mix."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    written_stems = write_stems(
        data_folder, project.id, stories.load(data_folder.db, stories.current(data_folder.db, project.id)).story, out
    )
    answer(
        as_json,
        {"stems": [str(path) for path in written_stems]},
        "\n".join(f"Written: {path}" for path in written_stems),
    )
