"""The Sound room over HTTP and from the command line: what it works out of a story, cleans, lays, measures and
refuses."""

import json
import wave
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.errors import Invalid
from kovel.core.plan.plan import make_plan
from kovel.core.plan.sounds import made_of
from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE, ensure
from kovel.media import clean as cleaning
from kovel.media.render import sound_of
from kovel.media.whole_files import MACHINE
from kovel.services.handoff.rendering import start_output
from kovel.services.job_kinds import scheduler_for
from kovel.services.sound import derived_sounds, mixing
from kovel.services.sound.derived_sounds import set_on_recording
from kovel.services.story.story_checks import findings, mix_of
from kovel.services.tighten.quick_cuts import beats
from kovel.store import history, jobs, recordings, steps, stories, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests.desk import Desk

Spoken = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def sound(spoken: Spoken) -> TestClient:
    """The application, with two voices, a space between them and music under all of it, laid on the story's clock."""
    data, r = spoken
    for name, params in (
        ("add_at_end", {"source": r["maren"].id, "start": 20, "length": 260}),
        ("add_at_end", {"source": r["odile"].id, "start": 20, "length": 200}),
        ("insert_space", {"at": 260, "length": 40}),
        ("lay_sound", {"source": r["bed"].id, "at": 25, "start": 0, "end": 400, "kind": "music", "clock_bound": True}),
        ("set_value", {"to": 2, "setting": "level", "value": -9}),
    ):
        stories.edit(data.db, 1, None, name, params)
    headers = {"x-kovel": "1", "accept": "application/json"}
    return TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers=headers)


def test_the_demos_story_sounds_finished(data: DataFolder) -> None:
    """What the Sound room worked out of the demo's footage (demo/making/sound.py): voices, music to the end, ducked,
    room tone."""
    project = ensure(data)
    s = stories.load(data.db, stories.current(data.db, project)).story
    music = sorted((x for x in s.sounds if x.kind == "music"), key=s.at)
    assert (
        len(music) > 1 and s.at(music[-1]) + music[-1].length == s.length and all("duck" in x.settings for x in music)
    )
    (tone,) = [x for x in s.sounds if x.kind == "natural"]
    space = next(i for i, p in enumerate(s.pieces) if p.source is None)
    assert s.at(tone) <= s.starts[space] and s.at(tone) + tone.length >= s.starts[space + 1]
    assert all("level" in p.settings for p in s.pieces if p.source) and dict(s.settings)["story"]["level"] != 0


def story_of(data: DataFolder) -> Any:
    return stories.load(data.db, 1).story


def asked(client: TestClient, what: str, **body: Any) -> dict[str, Any]:
    r = client.post(f"/p/1/sound/{what}", json=body)
    assert r.status_code == 200, r.text
    return r.json()


def test_voices_music_and_the_whole(sound: TestClient, spoken: Spoken) -> None:
    """Each action is one edit that does what it says by measuring again, and is undone in one step."""
    data, _ = spoken
    first = story_of(data)
    before = {v.name: v.loudness for v in mixing.voices(data, 1, first)}
    assert before["maren"] - before["odile"] > 5
    got = asked(sound, "even")
    assert {v["name"] for v in got["voices"]} == {"maren", "odile"} and "Voices brought to -23 LUFS" in got["did"]
    assert all(abs(v.loudness + 23) < 0.1 for v in mixing.voices(data, 1, story_of(data)))
    assert sound.post("/p/1/sound/even", json={}).status_code == 422  # they are like that already
    even = story_of(data)

    asked(sound, "duck", depth=-10, hold=4, back=6)
    x = story_of(data).sounds[0]
    speech = mixing.speech_in(data, even, recordings.sources(data.db, 1))
    line = x.settings["duck"]
    at = np.array([m for m, _ in line]) - x.start + even.at(x)
    for a, b in speech:
        a, b = max(a, 25), min(b, 425)
        if a < b:
            assert np.interp(np.arange(a, b), at, [d for _, d in line]) == pytest.approx(-10, abs=0.01)
    top = np.interp(np.arange(280, 290), at, [d for _, d in line]).max()
    assert top > -10  # it rises in the space

    got = asked(sound, "fit", sound=x.id)
    fitted = story_of(data)
    parts = sorted((y for y in fitted.sounds if y.kind == "music"), key=fitted.at)
    assert fitted.at(parts[-1]) + parts[-1].length == fitted.length and len(got["seams"]) == len(parts) - 1
    downs, to = set(beats(data, x.source).downbeats), fitted.rate.frame_to_sample
    for p, q in pairwise(parts):  # both sides stand on a downbeat at the same sample of the story
        place = to(fitted.at(p) + p.length - 1)
        ends = place - to(fitted.at(p)) + to(p.start) + p.settings["slip"]
        starts = place - to(fitted.at(q)) + to(q.start) + q.settings["slip"]
        near = min((d - ends for d in downs), key=abs)
        assert abs(near) < to(2) and starts + near in downs
        assert p.settings["fade_out"] == q.settings["fade_in"] == 2
    assert "duck" not in parts[0].settings

    asked(sound, "tone")
    with_tone = story_of(data)
    tone = next(y for y in with_tone.sounds if y.kind == "natural")
    assert with_tone.at(tone) <= 260 and with_tone.at(tone) + tone.length >= 300
    assert recordings.get(data.db, tone.source).name == "Room tone, maren"
    assert sound.post("/p/1/sound/tone", json={}).status_code == 422

    history.undo(data.db, 1)
    assert story_of(data) == fitted
    got = asked(sound, "target", target=-16)
    m = mixing.measure(data, 1, story_of(data))
    assert m.loudness == pytest.approx(-16, abs=0.25) and m.peak <= -0.95 and abs(got["after"] + 16) < 0.25
    assert sound.get("/p/1/sound/measured").json()["whole"] == pytest.approx(m.loudness)
    again = sound.post("/p/1/sound/target", json={"target": -16})
    assert again.status_code == 422 and "LUFS already" in again.json()["error"]
    near = sound.get("/p/1/sound/loudness").json()
    assert near["whole"] == pytest.approx(m.loudness, abs=0.8) and len(near["short"]) == len(near["momentary"])
    for _ in range(4):
        history.undo(data.db, 1)
    assert story_of(data) == first


def test_a_recording_is_cleaned_once_for_every_use(sound: TestClient, spoken: Spoken, finished: Callable) -> None:
    """The made sound is what player and renderer read, byte for byte; the raw one stays; a render waits for it;
    undone in the log it is the raw one again."""
    data, r = spoken
    i = r["maren"].id
    raw = (data.derived(i) / "sound.pcm").read_bytes()
    done = sound.post(f"/p/1/recordings/{i}/settings", json={"setting": "noise", "value": 18})
    assert done.json()["did"] == "maren: steady noise 18 dB"
    sound.post(f"/p/1/recordings/{i}/settings", json={"setting": "low_cut", "value": 80})
    name = made_of(recordings.get(data.db, i).source)
    assert name.startswith("clean-") and sound.get(f"/media/{i}/made/{name}.pcm").status_code == 404
    assert [j.state for j in jobs.of_project(data.db, 1, "clean")].count("waiting") == 1  # the older one is stopped
    assert "Being made" in sound.get("/p/1/sound/panel?items=1").text
    job = start_output(data, 1)
    finished(data)
    assert jobs.get(data.db, job.id).state == "done"
    served = sound.get(f"/media/{i}/made/{name}.pcm")
    assert served.status_code == 200 and len(served.content) == len(raw) and served.content != raw
    assert (data.derived(i) / "sound.pcm").read_bytes() == raw
    plan = make_plan(story_of(data), recordings.sources(data.db, 1))
    h = next(h for h in plan.sounds if h.source == i)
    assert h.made == name
    pcm = np.frombuffer(served.content, "<i2").reshape(-1, 1 if r["maren"].channels == 1 else 2)
    block = sound_of(plan.to_json(recordings.sources(data.db, 1)), {int(k): f for k, f in job.params["files"].items()})
    alone = type(block)(
        [h], {i: (data.derived(i) / "sound.pcm", pcm.shape[1])}, {(i, name): derived_sounds.made_file(data, i, name)}
    )
    a = h.at + 20_000
    want = pcm[h.start + 20_000 : h.start + 24_000].astype(np.float32) / 32768
    assert np.array_equal(alone.block(a, a + 4_000)[:, 0], want[:, 0])
    panel = sound.get("/p/1/sound/panel?items=1").text
    assert "levels before" in panel and "polyline" in panel
    steps.undo_or_redo(data.db, 1)
    assert made_of(recordings.get(data.db, i).source) != name
    for k in range(5):  # old ones go but for the last few
        (data.derived(i) / "made" / f"clean-00000000000{k}.pcm").write_bytes(b"")
    derived_sounds.throw_old_away(data, i)
    assert len(list((data.derived(i) / "made").glob("*.pcm"))) <= derived_sounds.KEPT


def test_a_cleaning_that_was_cut_short_goes_on(spoken: Spoken, monkeypatch: pytest.MonkeyPatch) -> None:
    data, r = spoken
    folder, wanted = (
        data.derived(r["odile"].id),
        {"low_cut": 90, "hum": "leave", "noise": 0, "clicks": False, "even": False},
    )
    channels = 1 if r["odile"].channels == 1 else 2
    monkeypatch.setattr(cleaning, "BLOCK", 48_000)
    cleaning.clean(str(folder), channels, "clean-whole", wanted, lambda x: None)
    whole = (folder / "made/clean-whole.pcm").read_bytes()
    begun = whole[: 48_000 * 2 * channels * 3 + 777]
    left, foreign = (folder / f"made/clean-again.pcm.{of}-1a2b.03.part" for of in (MACHINE, "ffffff"))
    left.write_bytes(begun)
    foreign.write_bytes(begun[:100])  # of another machine: it may be at work on it
    read = []
    monkeypatch.setattr(
        cleaning, "cleaned", lambda read_, a, b, c, f=cleaning.cleaned: read.append(a) or f(read_, a, b, c)
    )
    cleaning.clean(str(folder), channels, "clean-again", wanted, lambda x: None)
    assert (folder / "made/clean-again.pcm").read_bytes() == whole and min(read) == 3 * 48_000
    assert foreign.exists() and not left.exists()


def test_heard_before_it_is_made(sound: TestClient, spoken: Spoken) -> None:
    data, r = spoken
    url = f"/p/1/sound/recordings/{r['maren'].id}/hear"
    got = sound.post(url, json={"a": 48_000, "b": 96_000, "settings": {"low_cut": 100}})
    assert got.status_code == 200 and len(got.content) == 48_000 * 2 * (1 if r["maren"].channels == 1 else 2)
    whole = derived_sounds.hear(data, r["maren"].id, 0, 200_000, {"low_cut": 100})
    assert got.content == whole[len(got.content) : 2 * len(got.content)]
    for body, why in (
        ({"a": 0, "b": 100, "settings": {}}, "at least a tenth"),
        ({"a": 0, "b": 48_000, "settings": {"noise": 31}}, "Steady noise is set to 0 to 30 dB"),
        ({"a": 0, "b": 48_000, "settings": {"hum": "55 Hz"}}, "one of: leave, find it"),
        ({"a": 0, "b": 48_000, "settings": {"level": 3}}, "level cleans nothing"),
        ({"a": 0, "b": 48_000}, "could not be read"),
    ):
        refused = sound.post(url, json=body)
        assert refused.status_code == 422 and why in refused.json()["error"]


def test_heard_alone(sound: TestClient, spoken: Spoken) -> None:
    """The plan of what is chosen has nothing else in it, also where a piece was split and runs on unheard; pictures
    stay."""
    data, _ = spoken
    stories.edit(data.db, 1, None, "split", {"at": 100})
    second = story_of(data).pieces[1]
    whole = sound.get("/p/1/story/plan").json()
    assert len([h for h in whole["sounds"] if h[0] < 260 * 1920 and h[7] == 1]) == 1  # both parts are one sound
    alone = sound.get(f"/p/1/story/plan?only={second.id}").json()
    assert [(h[0], h[1], h[7]) for h in alone["sounds"]] == [(100 * 1920, 260 * 1920, second.id)]
    assert alone["pictures"] == whole["pictures"]
    both = sound.get(f"/p/1/story/plan?only={second.id},4").json()
    assert {h[7] for h in both["sounds"]} == {second.id, 4}
    assert sound.get("/p/1/story/plan?only=999").json()["sounds"] == []


def test_a_render_does_not_wait_for_what_nobody_makes(sound: TestClient, spoken: Spoken, finished: Callable) -> None:
    """It is told why, when the clean-up it waits for failed, or was changed meanwhile."""
    data, r = spoken
    i = r["maren"].id
    set_on_recording(data, i, "low_cut", 80)
    first = start_output(data, 1)
    set_on_recording(data, i, "low_cut", 90)  # the sound that the render was to read is made no more
    foreman = scheduler_for(data)
    foreman.places = [Desk()]
    foreman.step()
    assert "was changed while it waited" in jobs.get(data.db, first.id).message
    second = start_output(data, 1)
    (maker,) = [j for j in jobs.of_project(data.db, 1, "clean") if j.is_open]
    jobs.end(data.db, maker.id, "failed", "It has no sound that could be cleaned.")
    foreman.step()
    told = jobs.get(data.db, second.id)
    assert told.state == "failed" and "no sound that could be cleaned. Try again in the Sound room" in told.message
    with pytest.raises(Invalid, match="could not be cleaned"):
        start_output(data, 1)
    assert sound.post(f"/p/1/sound/recordings/{i}/again").json()["did"] == "Cleaning begun again."
    third = start_output(data, 1)
    finished(data) if not jobs.in_state(data.db, "failed") else None
    assert jobs.get(data.db, third.id).state in ("waiting", "done")


def test_cleaning_waits_for_the_pauses_that_tell_what_noise_is(sound: TestClient, spoken: Spoken) -> None:
    """Also in the moment before its pauses are asked for: its sound is there, and it is not listened to yet."""
    data, r = spoken
    maker = jobs.add(data.db, 1, "prepare", {"out": str(data.derived(r["odile"].id))}, r["odile"].id)
    listened = jobs.latest_of_recordings(data.db, 1, "listen").get(r["odile"].id)
    if listened:
        with data.db.write() as connection:
            connection.execute("DELETE FROM job WHERE id = ?", (listened.id,))
    job = jobs.add(data.db, 1, "clean", {"name": "x"}, r["odile"].id)
    hold = derived_sounds.CLEAN.hold
    assert hold(data, job) is not None
    jobs.end(data.db, maker.id, "cancelled")
    assert hold(data, job) is None
    waiting = jobs.add(data.db, 1, "listen", {"out": "x"}, r["odile"].id)
    assert hold(data, job) is not None
    for left in (waiting, job):
        jobs.end(data.db, left.id, "cancelled")


def test_a_sound_that_is_gone_is_made_again(sound: TestClient, spoken: Spoken) -> None:
    """Set, but not there (a copied project, a cleared folder): whoever plays it has it made."""
    data, r = spoken
    i = r["odile"].id
    recordings.set_value(data.db, i, "noise", 12)
    name = made_of(recordings.get(data.db, i).source)
    assert not jobs.of_project(data.db, 1, "clean")
    for _ in range(3):
        assert sound.get(f"/media/{i}/made/{name}.pcm").status_code == 404
    assert [j.params["name"] for j in jobs.of_project(data.db, 1, "clean")] == [name]


def test_each_piece_and_each_voice_over_for_itself(sound: TestClient, spoken: Spoken) -> None:
    data, r = spoken
    stories.edit(data.db, 1, None, "split", {"at": 130})
    stories.edit(data.db, 1, None, "level_point", {"item": story_of(data).pieces[1].id, "at": 200, "value": -12})
    stories.edit(
        data.db,
        1,
        None,
        "lay_sound",
        {"source": r["odile"].id, "at": 300, "start": 300, "end": 420, "kind": "voice", "level": -20},
    )
    before = mixing.voices(data, 1, story_of(data), "piece")
    assert len(before) == 4 and max(v.loudness for v in before) - min(v.loudness for v in before) > 8
    asked(sound, "even", apart="piece")
    after = mixing.voices(data, 1, story_of(data), "piece")
    assert [v.loudness for v in after] == pytest.approx([-23] * 4, abs=0.15)
    line = story_of(data).pieces[1].settings["level"]
    assert isinstance(line, tuple) and len(line) == 1  # a line is moved as a whole


def test_bites_on_bars_and_music_to_a_mark(sound: TestClient, spoken: Spoken) -> None:
    data, _ = spoken
    got = asked(sound, "spread", sound=4)
    s = story_of(data)
    to = s.rate.frame_to_sample
    x = s.sounds[0]
    bars = [to(s.at(x)) + m - to(x.start) for m in beats(data, x.source).downbeats]
    begins = [to(t) for t, p in zip(s.starts, s.pieces, strict=False) if p.source is not None][1:]
    assert "on a bar" in got["did"] and all(min(abs(b - m) for m in bars) <= 1920 for b in begins)
    assert sound.post("/p/1/sound/spread", json={"sound": 4, "bars": 99}).status_code == 422
    asked(sound, "duck", depth=-8)
    got = asked(sound, "fit", sound=4, until=380)
    parts = sorted((y for y in story_of(data).sounds if y.kind == "music"), key=story_of(data).at)
    assert story_of(data).at(parts[-1]) + parts[-1].length == 380
    assert any("duck it again" in n for n in got["notes"])
    again = asked(sound, "fit", sound=parts[0].id)  # to the end, of all its parts at once
    fitted = [y for y in story_of(data).sounds if y.kind == "music"]
    assert (
        max(story_of(data).at(y) + y.length for y in fitted) == story_of(data).length
        and "ends with the pictures" in again["did"]
    )
    stories.edit(
        data.db,
        1,
        None,
        "move_sound",
        {"sound": fitted[0].id, "at": story_of(data).at(fitted[0]), "clock_bound": False},
    )
    assert "story's clock" in sound.post("/p/1/sound/spread", json={"sound": fitted[0].id}).json()["error"]


def test_checks_count_what_is_set(sound: TestClient, spoken: Spoken) -> None:
    """A voice that steps is told, with what mends it; once evened out it is told no more."""
    data, _ = spoken
    stories.edit(data.db, 1, None, "close_space", {})
    stories.edit(data.db, 1, None, "set_value", {"to": 2, "setting": "level", "value": -14})
    steps_ = [f for f in findings(data, 1, story_of(data)) if f.kind == "step"]
    assert len(steps_) == 1 and steps_[0].mend == ("sound", "even", "Even out the voices")
    page = sound.get("/p/1/story/checks", headers={"accept": "text/html"}).text
    assert "/p/1/sound?do=even#260" in page
    asked(sound, "even")
    assert not [f for f in findings(data, 1, story_of(data)) if f.kind == "step"]
    stories.edit(data.db, 1, None, "set_value", {"to": "story", "setting": "target", "value": -30})
    (loud,) = [f for f in findings(data, 1, story_of(data)) if f.kind == "loudness"]
    assert "-30 is asked for" in loud.text and loud.mend == ("sound", "target", "Bring it there")


def test_what_the_strip_is_told(sound: TestClient, spoken: Spoken) -> None:
    data, r = spoken
    stories.edit(
        data.db, 1, None, "lay_cover", {"source": r["creek"].id, "at": 100, "until": 180, "start": 0, "natural": True}
    )
    stories.edit(data.db, 1, None, "level_point", {"item": 4, "at": 125, "value": -3})
    stories.edit(data.db, 1, None, "set_value", {"to": "story", "setting": "level", "value": 2})
    told = sound.get("/p/1/sound/strip").json()
    by_lane = {lane: [b for b in told["blocks"] if b["lane"] == lane] for lane in ("dialogue", "natural", "music")}
    assert [b["name"] for b in by_lane["dialogue"]] == ["maren", "space", "odile"]
    assert by_lane["natural"][0]["wide"] == pytest.approx(
        2 - 6.02, abs=0.01
    )  # half amplitude until its own level is set
    assert by_lane["music"][0]["line"] == [[125, -3.0]] and by_lane["music"][0]["tells"] == "own -3.0 dB, total -1.0 dB"
    assert {x["name"]: x["rows"] for x in told["lanes"]} == {
        "dialogue": 1,
        "natural": 1,
        "effect": 0,
        "voice": 0,
        "music": 1,
    }
    c = story_of(data).covers[0]
    stories.edit(data.db, 1, None, "set_value", {"to": c.id, "setting": "level", "value": -16})
    h = next(h for h in make_plan(story_of(data), recordings.sources(data.db, 1)).sounds if h.of == c.id)
    assert h.gain == pytest.approx(
        0.1585 * 10 ** (2 / 20), abs=2e-4
    )  # typed -16 dB is 0.1585 (common practice), and the story's
    page = sound.get("/p/1/sound", headers={"accept": "text/html"})
    assert page.status_code == 200 and "Even out voices" in page.text
    panel = sound.get("/p/1/sound/panel?items=1,3").text
    assert "2 clips" in panel and 'data-set="balance"' in panel
    assert "Choose something" in sound.get("/p/1/sound/panel?items=99").text
    faces = sound.get("/p/1/sound/faces?at=120,270,9999").json()
    assert (
        [f[0] for f in faces] == [120, 270]
        and faces[0][1]["url"].startswith(f"/media/{r['creek'].id}/")
        and faces[1][1] is None
    )
    transcripts.set_words(data.db, r["maren"].id, [])
    assert sound.get("/p/1/sound/words?a=0&b=400").json() == []


def test_what_cannot_be_done_is_said(sound: TestClient, spoken: Spoken) -> None:
    data, r = spoken
    for url, body, why in (
        ("/p/1/sound/fit", {"sound": 99}, "no longer in the story"),
        ("/p/1/sound/fit", {"sound": 4, "until": 10}, "begins behind that moment"),
        ("/p/1/sound/duck", {"items": [1]}, "Music, natural sound and effects go down"),
        ("/p/1/sound/duck", {"items": [], "depth": 3}, "could not be read"),
        ("/p/1/sound/target", {"target": 3}, "-40 to -8 LUFS"),
        ("/p/1/sound/even", {"apart": "room"}, "could not be read"),
        (f"/p/1/recordings/{r['maren'].id}/settings", {"setting": "noise", "value": 40}, "0 to 30 dB"),
        (f"/p/1/recordings/{r['maren'].id}/settings", {"setting": "hum", "value": "55 Hz"}, "one of: leave"),
        (f"/p/1/recordings/{r['maren'].id}/settings", {"setting": "dips", "value": [[0, -1.0]]}, "set on the story"),
    ):
        got = sound.post(url, json=body)
        assert got.status_code == 422 and why in got.json()["error"], (url, got.text)
    assert sound.post("/p/1/sound/even", json={"revision": 1}).status_code == 409
    stories.edit(data.db, 1, None, "set_value", {"to": [1, 2], "setting": "mute", "value": True})
    stories.edit(data.db, 1, None, "remove_sound", {"sound": 4})
    for what, why in (("even", "Nobody speaks"), ("target", "silent"), ("duck", "no music")):
        got = sound.post(f"/p/1/sound/{what}", json={})
        assert got.status_code == 422 and why in got.json()["error"]


def wav(samples: np.ndarray) -> bytes:
    import io

    out = io.BytesIO()
    with wave.open(out, "wb") as f:
        f.setnchannels(1)
        f.setsampwidth(2)
        f.setframerate(48_000)
        f.writeframes((samples * 32767).astype("<i2").tobytes())
    return out.getvalue()


def test_a_voice_over_lies_where_it_was_spoken(sound: TestClient, spoken: Spoken) -> None:
    data, _ = spoken
    take = wav(np.sin(np.arange(96_000) / 20) * 0.2)
    got = sound.post(
        "/p/1/sound/voice", data={"at": "50", "late": "3840"}, files={"sound": ("v.wav", take, "audio/wav")}
    )
    assert got.status_code == 200, got.text
    x = next(y for y in story_of(data).sounds if y.kind == "voice")
    r = recordings.get(data.db, x.source)
    assert (
        (r.kind, r.name) == ("voice", "Voice-over 1") and story_of(data).at(x) == 50 and (x.start, x.length) == (2, 48)
    )
    for sent, why in ((b"RIFF nothing", "no sound that can be read"), (wav(np.zeros(100)), "Nothing was recorded")):
        bad = sound.post("/p/1/sound/voice", data={"at": "50"}, files={"sound": ("v.wav", sent, "audio/wav")})
        assert bad.status_code == 422 and why in bad.json()["error"]
    end = sound.post("/p/1/sound/voice", data={"at": "9999"}, files={"sound": ("v.wav", take, "audio/wav")})
    assert end.status_code == 422 and len(list(data.uploads(1).glob("*.wav"))) == 1


def test_from_the_command_line(sound: TestClient, spoken: Spoken, tmp_path: Path) -> None:
    data, _ = spoken

    def cli(*args: str, ok: bool = True) -> str:
        got = CliRunner().invoke(
            main, [*args, *(() if args[0] in ("clean", "music-fit") else ("--data", str(data.root)))]
        )
        assert (got.exit_code == 0) == ok, got.output
        return got.output

    assert "level -16.0 dB" in cli("story", "set", "piece=1", "level=-16")
    cli("story", "set", "piece=1", "sound=4", "level=none", "balance=-40", "fade_in=10")
    cli("story", "set", "sound=4", "level=0:-6,100:0")
    assert story_of(data).sounds[0].settings["level"] == ((0, -6.0), (100, 0.0))
    for values, why in (
        (["piece=1"], "on what, and what"),
        (["piece=1", "shine=2"], "neither a scope"),
        (["story", "mute=maybe"], "on or off"),
    ):
        assert why in cli("story", "set", *values, ok=False)
    out = tmp_path / "stems"
    files = json.loads(cli("sound", "stems", "--out", str(out), "--json"))["stems"]
    assert {Path(f).stem for f in files} == {"dialogue", "music"}
    total = 0
    for f in files:
        with wave.open(f) as w:
            x = np.frombuffer(w.readframes(w.getnframes()), np.uint8).reshape(-1, 3)
            total = total + (np.pad(x, ((0, 0), (1, 0))).copy().view("<i4")[:, 0] >> 8).reshape(-1, 2) / 2**23
    plan = make_plan(story_of(data), recordings.sources(data.db, 1))
    assert np.abs(total - mix_of(data, plan).block(0, plan.samples)).max() < 2 / 2**23
    assert "is in that folder already" in cli("sound", "stems", "--out", str(out), ok=False)
    assert json.loads(cli("sound", "even", "--json"))["voices"]
    assert "go" in cli("sound", "duck", "--depth", "9") and "ends with the pictures" in cli("sound", "fit", "4")
    assert "-16" in cli("sound", "target", "-16") and "true peak" in cli("loudness", "story")
    one = tmp_path / "one.wav"
    cli("clean", str(FOOTAGE / "odile.mp4"), "--out", str(one), "--low-cut", "80")
    got = json.loads(cli("loudness", str(one), "--json"))
    assert -40 < got["lufs"] < -10 and got["true_peak"] < 1
    assert "there already" in cli("clean", str(FOOTAGE / "odile.mp4"), "--out", str(one), "--even", ok=False)
    fitted = tmp_path / "fitted.wav"
    row = json.loads(cli("music-fit", str(FOOTAGE / "bed.flac"), "--length", "40s", "--out", str(fitted), "--json"))
    with wave.open(str(fitted)) as w:
        assert w.getnframes() / 48_000 == pytest.approx(row["length"]) and abs(row["over"]) < 1.3
    assert "shorter than" in cli("music-fit", str(FOOTAGE / "bed.flac"), "--length", "2s", ok=False)
