"""The whole path without a browser, and help that helps."""

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import click
import pytest
from click.testing import CliRunner

from kovel.cli import main
from kovel.demo.project import FOOTAGE
from tests import made


def kovel(folder: Path, *args: str, ok: bool = True) -> str:
    """What a command prints; refused ones say so on the error stream. In this process: starting one takes a second."""
    done = CliRunner().invoke(main, list(args), prog_name="kovel", env={"KOVEL_DATA": str(folder)})
    assert (done.exit_code == 0) == ok and (done.exception is None or isinstance(done.exception, SystemExit)), (
        done.output
    )
    return done.stdout if ok else done.stderr


def process(folder: Path, *args: str) -> str:
    """The same as a process of its own, as the editor calls it."""
    env = {**os.environ, "PYTHONPATH": "src", "KOVEL_DATA": str(folder)}
    return subprocess.run(
        [sys.executable, "-m", "kovel", *args], capture_output=True, text=True, env=env, check=True
    ).stdout


def test_from_recordings_to_a_film(clips: dict[str, Path], tmp_path: Path) -> None:
    d = tmp_path / "data"
    bad = tmp_path / "diary.mp4"
    bad.write_text("no film")
    out = json.loads(
        process(
            d,
            "import",
            "--new",
            "Ferry",
            "--size",
            "1280x720",
            str(clips["talk"]),
            str(clips["boat"]),
            str(bad),
            "--json",
        )
    )
    assert [r["ready"] for r in out["recordings"]] == [True, True] and "diary.mp4" in out["refused"][0]
    assert (
        json.loads(kovel(d, "log", "add", "talk", "4s", "+1:00", "--name", "one", "--tags", "flood", "--json"))[
            "length"
        ]
        == 25
    )
    kovel(d, "log", "add", "talk", "10:00", "11:10", "--name", "two")
    kovel(d, "story", "add", "one", "two")
    assert "laid over" in kovel(d, "story", "cover", "boat", "--at", "20", "--until", "1:20", "--start", "2s")
    show = json.loads(kovel(d, "story", "show", "--json"))
    assert (
        [p["start"] for p in show["pieces"]] == [100, 250]
        and show["pieces"][1]["seam"] == "covered"
        and show["covers"][0]["length"] == 25
    )
    assert "Undone" in kovel(d, "story", "undo") and "Done again" in kovel(d, "story", "redo")
    assert "talk: level -6.5 dB" in kovel(d, "set", "talk", "level", "-6.5") and "taken back" in kovel(
        d, "set", "talk", "level", "none"
    )
    assert "zoom 120 %" in kovel(d, "story", "edit", "set_value", "to=1,2", "setting=zoom", "value=120")
    assert (
        "the story: level" in kovel(d, "story", "edit", "set_value", "to=story", "setting=level", "value=-2.5").lower()
    )
    for _ in range(2):
        kovel(d, "story", "undo")
    assert "Split at" in kovel(d, "story", "edit", "split", "at=5") and "Undone" in kovel(d, "story", "undo")
    film = tmp_path / "film.mp4"
    done = json.loads(process(d, "render", "--out", str(film), "--quality", "small", "--json"))
    assert done["frames"] == 60 and made.codes(film) == [(1, 100 + t) for t in range(20)] + [
        (3, 50 + t) for t in range(25)
    ] + [(1, 270 + t) for t in range(15)]
    assert "OTIO_SCHEMA" in kovel(d, "export", "otio") and "TITLE: Ferry" in kovel(d, "export", "edl")
    for args, says in (
        (("render", "--out", str(film)), "--force"),
        (("log", "add", "talk", "5x", "6s"), "is not a time"),
        (("log", "add", "nobody", "1s", "2s"), "no recording called nobody"),
        (("story", "add", "three"), "no subclip called three"),
        (("story", "edit", "trim", "piece=1", "edge=in", "delta=-101"), "before this in point"),
        (("story", "edit", "trim", "nonsense=1"), "takes piece=..."),
        (("list", "-p", "Nowhere"), "no project called Nowhere"),
        (("serve", "--host", "0.0.0.0"), "KOVEL_PASSPHRASE"),
    ):
        assert says in kovel(d, *args, ok=False)
    for command in ("", "story", "import", "render"):
        assert "--help" in kovel(d, *command.split(), "--help")


def test_odd_input_is_told_and_one_answer_a_call(clips: dict[str, Path], tmp_path: Path) -> None:
    d, cards = tmp_path / "data", tmp_path / "cards"
    for card in ("A", "B"):  # cameras name alike on every card
        (cards / card / "CLIP").mkdir(parents=True)
    shutil.copy(clips["talk"], cards / "A/CLIP/C0001.mov")
    shutil.copy(clips["fifty"], cards / "B/CLIP/C0001.mov")
    (cards / "A/notes.txt").write_text("mine")
    (cards / "B/out.mov").symlink_to("/etc/hostname")
    out = json.loads(
        kovel(
            d,
            "import",
            "--new",
            "Two",
            "--rate",
            "29.97",
            "--drop",
            "--start",
            "01:00:00;00",
            str(cards),
            "--no-wait",
            "--json",
        )
    )
    assert [r["name"] for r in out["recordings"]] == ["C0001", "C0001 (CLIP)"] and out["refused"] == []
    (tmp_path / "empty").mkdir()
    assert "no recordings in" in kovel(d, "import", "--new", "Nothing", str(tmp_path / "empty"), ok=False)
    assert [p["name"] for p in json.loads(kovel(d, "list", "--json"))] == ["Two"]  # and no empty project is left
    same = CliRunner().invoke(
        main, ["import", "-p", "Two", str(clips["talk"]), "--no-wait"], env={"KOVEL_DATA": str(d)}
    )
    assert "the same file as C0001" in same.stderr and "talk: in Two" in same.stdout
    kovel(d, "log", "add", "1", "1s", "2s", "--name", "one")
    kovel(d, "log", "add", "2", "3s", "4s", "--name", "one")
    assert "2 subclips are called one" in kovel(d, "story", "add", "one", ok=False)
    kovel(d, "log", "add", "1", "5s", "6s", "--name", "two")
    told = json.loads(kovel(d, "story", "add", "3", "1", "--at", "0", "--json"))
    shown = json.loads(kovel(d, "story", "show", "--json"))
    assert told["made"] and [p["start"] for p in shown["pieces"]] == [150, 30]  # in the order they were named, one step
    assert "Undone" in kovel(d, "story", "undo") and not json.loads(kovel(d, "story", "show", "--json"))["pieces"]
    kovel(d, "story", "redo")
    kovel(d, "story", "edit", "insert_card", "at=0", "length=30", "text=Hello")
    card = json.loads(kovel(d, "story", "show", "--json"))["pieces"][0]["id"]
    kovel(d, "story", "edit", "set_card", f"piece={card}", "text=")
    assert "moved" in kovel(d, "story", "edit", "move_several", f"pieces={card}", "before=none")
    assert "Took out 2 stretches" in kovel(d, "story", "edit", "take_out", "cuts=1-3,5-8")
    for args, says in (
        (("export", "otio", "--out", str(tmp_path / "no/such/film.otio")), "There is no folder"),
        (("render", "--out", str(tmp_path / "no/film.mp4")), "There is no folder"),
        (("words", "1", "vtt", "--out", str(tmp_path)), "is a folder"),
        (("story", "edit", "insert_space", "at=0", "length=abc"), "“abc” is not a time"),
        (("story", "edit", "insert_space", "at=0", "length=5", "all_lanes=maybe"), "true or false"),
        (("log", "add", "C0001.mov", "1s", "2s"), "2 recordings are called C0001.mov"),
    ):
        assert says in kovel(d, *args, ok=False)
    assert kovel(d, "export", "edl", "--out", "-").startswith("TITLE: Two")
    sheet = kovel(d, "log", "export", "csv", "--out", "-")
    assert "C0001 (CLIP)" in sheet


def test_what_the_readme_says_can_be_called(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Every command of the README is one there is, with parameters it takes; every program of bench/ is named and
    found."""
    root = Path(__file__).parent.parent
    monkeypatch.chdir(tmp_path)
    for name in ("log.csv", "translated.vtt", "film.kovel.zip"):
        (tmp_path / name).touch()
    (tmp_path / "shots").mkdir()
    text = (root / "README.md").read_text()
    block = text[text.index("## Without a browser") : text.index("They work on the same data folder")]
    lines = [x for row in block.splitlines() for x in re.split(r"\s{2,}", row.strip()) if x.startswith("./kovel ")]
    assert len(lines) >= 15
    for line in lines:
        words = shlex.split(line)[1:]
        command: click.Command = main
        context = click.Context(main, info_name="kovel")
        while isinstance(command, click.Group):
            command = command.get_command(context, words.pop(0)) or pytest.fail(line)
        command.make_context("kovel", words, resilient_parsing=False, parent=context)
    named = set(re.findall(r"bench (\w+)`", text))
    assert named == {p.stem for p in (root / "bench").glob("*.py")} - {"__init__", "served"}
    done = subprocess.run([root / "kovel", "bench"], capture_output=True, text=True)
    assert done.returncode == 2 and all(n in done.stderr for n in named)


def test_demo_footage_is_what_its_sidecars_say() -> None:
    """Sizes, lengths, words inside their recordings, hits where the sound jumps, camera B's offset by correlation."""
    files = sorted(p for p in FOOTAGE.iterdir() if p.suffix != ".json")
    assert sum(p.stat().st_size for p in files) < 25e6 and all(p.stat().st_size < 4e6 for p in files)
    known = {p.stem: json.loads(p.with_suffix(".json").read_text()) for p in files}
    shots = [k for k in known.values() if k["kind"] == "b-roll"]
    assert len(shots) >= 8 and all(8 <= s["seconds"] <= 15 for s in shots) and max(len(s["hits"]) for s in shots) >= 12
    for name in ("maren-a", "maren-b", "tobin", "odile"):
        k = known[name]
        assert 60 <= k["seconds"] <= 90 and {e["kind"] for e in k["events"]} >= {"question", "pause", "um", "false"}
        assert all(0 <= w["start"] < w["end"] <= k["seconds"] for w in k["words"])
        x = made.decoded_sound(FOOTAGE / f"{name}.mp4")
        level = lambda a, b, x=x: float((x[int(a * 48000) : int(b * 48000)] ** 2).mean()) ** 0.5  # noqa: E731
        own = [w for w in k["words"] if w["speaker"] != "interviewer"]
        gaps = [e for e in k["events"] if e["kind"] == "pause" and e["end"] - e["start"] > 0.8]
        assert sum(level(w["start"], w["end"]) for w in own) / len(own) > 4 * max(
            level(e["start"] + 0.25, e["end"] - 0.1) for e in gaps
        )
    k = known["maren-b"]["sync"]["offset"]
    a, b = made.decoded_sound(FOOTAGE / "maren-a.mp4"), made.decoded_sound(FOOTAGE / "maren-b.mp4")
    late, _ = made.lag(b, a[round(k * 48000) :])
    assert abs(late) <= 24  # half a millisecond; the second microphone has a room on it
    x = made.decoded_sound(FOOTAGE / "wheel.mp4")
    for h in known["wheel"]["hits"]:
        i = round(h["time"] * 48000)
        assert abs(x[i : i + 960]).max() > 3 * abs(x[i - 2400 : i - 480]).max()
