"""Retimed pieces from the edit to the film: the sound is made once, read alike by page and renderer, waited for, and
told of."""

from collections.abc import Callable
from pathlib import Path

import av
import numpy as np
import pytest
from fastapi.testclient import TestClient
from scipy.io import wavfile

from kovel.core.errors import Invalid
from kovel.core.plan.plan import make_plan
from kovel.core.plan.retimed import RETIMED
from kovel.data_folder import DataFolder
from kovel.services.footage.intake import bring_in
from kovel.services.handoff.rendering import start_output
from kovel.services.job_kinds import scheduler_for
from kovel.services.sound.derived_sounds import PACED, made_file, set_on_recording, throw_old_away, want_retimed
from kovel.services.sound.mixing import measure
from kovel.services.story.story_checks import mix_of
from kovel.store import jobs, recordings, stories
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from kovel.web.rooms.sound.strip import Drawn
from tests.desk import Desk

SR = 48_000
Spoken = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def toned(spoken: Spoken, tmp_path: Path, finished: Callable) -> tuple[DataFolder, int]:
    """A recording of 20 s that sounds at 500 Hz in its first half, at 800 Hz in its second."""
    data, _ = spoken
    t = np.arange(20 * SR) / SR
    x = 0.3 * np.sin(2 * np.pi * np.where(t < 10, 500, 800) * t)
    wavfile.write(tmp_path / "tones.wav", SR, (x * 32767).astype(np.int16))
    r = bring_in(data, 1, tmp_path / "tones.wav", name="tones", kind="sound")
    finished(data)
    return data, r.id


def edit(data: DataFolder, name: str, **params: object) -> None:
    stories.edit(data.db, 1, None, name, params)


def plan_of(data: DataFolder):
    return make_plan(stories.load(data.db, 1).story, recordings.sources(data.db, 1))


def hz(x: np.ndarray) -> float:
    return float(np.argmax(np.abs(np.fft.rfft(x * np.hanning(len(x))))) * SR / len(x))


def second(y: np.ndarray, at: float) -> np.ndarray:
    """Half a second of a mix from `at` seconds on, its left side."""
    return y[int(at * SR) : int((at + 0.5) * SR), 0]


def test_a_film_sounds_as_its_pieces_run(toned: tuple[DataFolder, int], finished: Callable, tmp_path: Path) -> None:
    """Half speed with its pitch, double speed with the speed's, backwards, held: in the mix of the page and in the
    film's file."""
    data, tones = toned
    for start in (100, 300, 200):  # 4 s from 0:04 of it, from 0:12, and 2 s either side of where the tone changes
        edit(data, "add_at_end", source=tones, start=start, length=100)
    edit(data, "set_speed", item=1, percent=50)
    edit(data, "set_value", to=2, setting="heard", value="with the speed")
    edit(data, "set_speed", item=2, percent=200)
    edit(data, "run_backwards", items=3, backwards=True)
    edit(data, "hold_frame", item=3, at=250, length=25)
    made = plan_of(data).retimed
    assert len(made[tones]) == 3 and all(n.startswith(RETIMED) for n in made[tones])
    job = start_output(data, 1, out=tmp_path / "film.mp4")
    finished(data)
    assert jobs.get(data.db, job.id).state == "done" and all(made_file(data, tones, n).exists() for n in made[tones])
    plan = plan_of(data)
    mix = mix_of(data, plan).block(0, plan.samples)
    with av.open(str(tmp_path / "film.mp4")) as c:
        film = np.concatenate([f.to_ndarray().T for f in c.decode(audio=0)])
        assert abs(len(film) - plan.samples) < 4_096
    for y in (mix, film):
        assert abs(hz(second(y, 2)) - 500) < 3 and abs(hz(second(y, 6)) - 500) < 3  # 0:00 to 0:08 at half speed
        assert abs(hz(second(y, 9)) - 1600) < 3  # 800 Hz twice as fast, to 0:10 (2 s of it)
        assert np.abs(second(y, 10.3)).max() < 0.01  # held from 0:10 to 0:11
        assert (
            abs(hz(second(y, 11.5)) - 800) < 3 and abs(hz(second(y, 14)) - 500) < 3
        )  # backwards over the change at 0:13


def test_it_is_made_when_somebody_plays_it_and_silent_until_then(
    toned: tuple[DataFolder, int], finished: Callable
) -> None:
    data, tones = toned
    edit(data, "add_at_end", source=tones, start=100, length=100)
    edit(data, "set_speed", item=1, percent=80)
    client = TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers={"x-kovel": "1"})
    plan = client.get("/p/1/story/plan").json()
    name = plan["sounds"][0][8]["made"]
    (job,) = jobs.of_project(data.db, 1, "retime")
    assert job.params["name"] == name and client.get(f"/media/{tones}/made/{name}.pcm").status_code == 404
    assert np.abs(mix_of(data, plan_of(data)).block(0, SR)).max() == 0  # not at another pitch, nor from elsewhere
    client.get("/p/1/story/plan")
    assert len(jobs.of_project(data.db, 1, "retime")) == 1  # asked for once
    finished(data)
    part = client.get(f"/media/{tones}/made/{name}.pcm", headers={"range": "bytes=0-95999"})
    assert part.status_code == 206 and np.frombuffer(part.content, "<i2").std() > 3_000
    whole = made_file(data, tones, name).stat().st_size
    assert (
        client.get(f"/media/{tones}/made/{name}.pcm", headers={"range": f"bytes={whole}-{whole + 9}"}).status_code
        == 416
    )
    edit(data, "trim", piece=1, edge="out", delta=-10)
    assert set(plan_of(data).retimed[tones]) == {name} and want_retimed(data, 1, plan_of(data)) == []


def test_of_a_cleaned_recording_the_cleaned_sound_is_retimed(spoken: Spoken, finished: Callable) -> None:
    """It waits for it; and is made anew when that changes."""
    data, r = spoken
    i = r["maren"].id
    edit(data, "add_at_end", source=i, start=20, length=100)
    edit(data, "set_speed", item=1, percent=75)
    raw = next(iter(plan_of(data).retimed[i]))
    set_on_recording(data, i, "low_cut", 200)
    name, pace = next(iter(plan_of(data).retimed[i].items()))
    assert name != raw and pace.of.startswith("clean-")
    want_retimed(data, 1, plan_of(data))
    foreman = scheduler_for(data)
    foreman.places = [Desk()]
    foreman.step()
    (job,) = jobs.of_project(data.db, 1, "retime")
    assert job.state == "waiting"  # for the cleaned one
    finished(data)
    assert jobs.get(data.db, job.id).state == "done"
    power = np.load(made_file(data, i, name).with_suffix(".power.npy"))
    assert len(power) == pace.length * 1920 // 4_800  # what checks and loudness read of it


def test_one_that_fails_is_told_and_tried_again(toned: tuple[DataFolder, int], finished: Callable) -> None:
    data, tones = toned
    edit(data, "add_at_end", source=tones, start=100, length=100)
    edit(data, "set_speed", item=1, percent=80)
    render = start_output(data, 1)
    (job,) = jobs.of_project(data.db, 1, "retime")
    jobs.end(data.db, job.id, "failed", "The disk is full.")
    foreman = scheduler_for(data)
    foreman.places = [Desk()]
    foreman.step()
    told = jobs.get(data.db, render.id)
    assert told.state == "failed" and "retimed shot could not be made: The disk is full." in told.message
    assert [j.id for j in want_retimed(data, 1, plan_of(data))] == [job.id]
    again = start_output(data, 1)
    assert jobs.get(data.db, job.id).state == "waiting"
    jobs.again(data.db, render.id)
    finished(data)
    assert jobs.get(data.db, again.id).state == jobs.get(data.db, render.id).state == "done"


def test_old_ones_go_and_cleaned_ones_stay(toned: tuple[DataFolder, int]) -> None:
    data, tones = toned
    folder = data.derived(tones) / "made"
    folder.mkdir(exist_ok=True)
    for k in range(PACED + 5):
        for end in ("pcm", "power.npy"):
            (folder / f"{RETIMED}{k:012x}.{end}").touch()
    (folder / "clean-000000000001.pcm").touch()
    throw_old_away(data, tones)
    assert len(list(folder.glob("pace-*.pcm"))) == len(list(folder.glob("pace-*.npy"))) == PACED
    assert (folder / "clean-000000000001.pcm").exists()


def test_a_cover_that_is_retimed_goes_on_being_heard(spoken: Spoken) -> None:
    data, r = spoken
    shot = r["creek"]
    edit(data, "add_at_end", source=r["maren"].id, start=0, length=80)
    edit(data, "lay_cover", source=shot.id, at=5, until=45, start=4, natural=True)
    cover = stories.load(data.db, 1).story.covers[0].id
    done = stories.edit(data.db, 1, None, "set_speed", {"item": cover, "percent": 150})
    assert "Its sound is made at that speed, its pitch kept." in done[1].notes
    pace = next(iter(plan_of(data).retimed[shot.id].values()))
    assert pace.pitch and float(pace.course()[0]) == 4 * 1920
    with pytest.raises(Invalid, match="still being made"):  # its loudness is not told as if it were silent
        measure(data, 1, stories.load(data.db, 1).story)
    assert [j.params["name"] for j in jobs.of_project(data.db, 1, "retime")] == [pace.name]
    edit(data, "set_value", to=cover, setting="heard", value="not heard")
    assert shot.id not in plan_of(data).retimed
    row = next(
        b for b in Drawn(stories.load(data.db, 1).story, recordings.sources(data.db, 1)).blocks() if b.id == cover
    )
    assert not row.heard
