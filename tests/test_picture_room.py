"""The Picture room over HTTP and the command line: settings at scopes, looks, faces, shapes, titles; odd input is
refused."""

import json
from typing import Any

import av
import numpy as np
import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.picture.look import applied, made, read_cube
from kovel.core.plan.outputs import Output
from kovel.core.plan.plan import make_plan
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.demo.project import ensure
from kovel.media.face_finding import faces_in
from kovel.media.title_pictures import SERIF
from kovel.services.footage.thumbnails import colours
from kovel.services.handoff.rendering import start_output
from kovel.services.picture import face_framing
from kovel.services.story.story_checks import findings
from kovel.store import history, jobs, recordings, stories, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests.conftest import finish

Shown = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def picture(shown: Shown) -> TestClient:
    """The application, with a jump inside Maren, Tobin, and two shots over them."""
    data, r = shown
    for name, params in (
        ("add_at_end", {"source": r["maren-a"].id, "start": 0, "length": 30}),
        ("add_at_end", {"source": r["maren-a"].id, "start": 40, "length": 30}),
        ("add_at_end", {"source": r["tobin"].id, "start": 0, "length": 60}),
        ("lay_cover", {"source": r["bell"].id, "at": 70, "until": 95, "start": 10}),
    ):
        stories.edit(data.db, 1, None, name, params)
    headers = {"x-kovel": "1", "accept": "application/json"}
    return TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers=headers)


def story(data: DataFolder) -> Any:
    return stories.load(data.db, stories.current(data.db, 1)).story


def edit(room: TestClient, command: str, **params: object) -> dict:
    r = room.post("/p/1/story/edit", json={"command": command, **params})
    assert r.status_code == 200, r.text
    return r.json()


def test_the_room_shows_the_film_and_what_is_set(picture: TestClient, shown: Shown) -> None:
    _, r = shown
    page = picture.get("/p/1/picture").text
    assert 'aria-current="page">Picture' in page and "<script>" not in page
    edit(picture, "push", items=[1], last=112)
    picture.post(f"/p/1/recordings/{r['maren-a'].id}/settings", json={"setting": "brightness", "value": 0.5})
    edit(picture, "set_value", to=1, setting="brightness", value=-0.2)
    film = " ".join(picture.get("/p/1/picture/film", params={"px": 4}).text.split())
    assert film.count("film-shot") == 4 and 'data-lane="cover 1"' in film and "framed" in film and "small-0-" in film
    assert f'style="width:{4 * 120 + 1}px"' in film and "left:280px; width:99px" in film
    panel = picture.get("/p/1/picture/panel", params={"items": "1"}).text
    assert 'value="100 to 112"' in panel and 'value="-0.2"' in panel and "from the recording" in panel
    wide = picture.get("/p/1/picture/panel", params={"items": "1", "scope": "recording"}).text
    assert 'value="0.5"' in wide and "all of maren-a" in wide
    assert "Choose something" in picture.get("/p/1/picture/panel", params={"items": "99"}).text
    for px in ("0", "-1", "1000", "x"):
        assert picture.get("/p/1/picture/film", params={"px": px}).status_code == 422
    assert json.loads(picture.get("/p/1/picture/alike", params={"item": 1}).text) == [1, 2]
    assert set(picture.get("/p/1/picture/own", params={"item": 1}).json()) == {"zoom", "brightness"}


def test_looks_are_tables_and_levels_are_told(picture: TestClient, shown: Shown) -> None:
    look = [{"brightness": 0.5}, {"contrast": 20, "warmth": -30}]
    raw = np.frombuffer(picture.get("/p/1/look.bin", params={"of": json.dumps(look)}).content, np.uint8)
    assert raw.shape == (33**3 * 3,) and np.abs(raw / 255 - made(look).reshape(-1)).max() <= 0.5 / 255 + 1e-6
    for odd in (
        "",
        "[",
        "{}",
        '[{"brightness": 99}]',
        '[{"level": 3}]',
        '[{"shine": 1}]',
        '["x"]',
        '[{"brightness": NaN}]',
    ):
        assert picture.get("/p/1/look.bin", params={"of": odd}).status_code == 404, odd
    plain = picture.get("/p/1/picture/levels", params={"at": 5, "item": 1}).text
    assert plain.count("<svg") == 2 and 'class="is"' not in plain
    edit(picture, "set_value", to=1, setting="brightness", value=2.5)
    looked = picture.get("/p/1/picture/levels", params={"at": 5, "item": 1}).text
    assert looked.count('class="is"') == 2 and "cut off" in looked
    cube = picture.get("/p/1/picture/look.cube", params={"at": 5, "item": 1})
    points = np.random.default_rng(1).random((50, 3))
    assert np.abs(applied(read_cube(cube.text), points) - applied(made([{"brightness": 2.5}]), points)).max() < 1e-5
    assert picture.get("/p/1/picture/look.cube", params={"at": 5, "item": 3}).status_code == 422
    found = {f.kind: f for f in findings(shown[0], 1, story(shown[0]))}
    assert "cuts off" in found["cut off"].text and found["jump"].mend == ("picture", "punch", "Punch in at jumps")


def test_levels_are_those_of_the_frame_that_is_seen(picture: TestClient, shown: Shown) -> None:
    """Held, a shot has the levels of one frame throughout; backwards, those of its other end."""
    cover = next(c.id for c in story(shown[0]).covers)
    at = lambda t, **more: picture.get("/p/1/picture/levels", params={"at": t, **more}).text  # noqa: E731
    first, last = at(70, item=cover), at(94, item=cover)
    assert first != last and at(70) == first  # what is chosen is what is on top
    edit(picture, "set_value", to=cover, setting="backwards", value=True)
    assert at(70, item=cover) == last and at(94, item=cover) == first
    edit(picture, "set_value", to=cover, setting="backwards", value=False)
    edit(picture, "hold_frame", item=cover, at=70, length=25)
    assert at(70, item=cover) == at(94, item=cover) == at(94) == first


def test_tables_and_looks_are_kept_under_names(picture: TestClient, shown: Shown) -> None:
    data, _ = shown
    put = lambda body, name="warm one.cube": picture.post("/p/1/picture/tables", files={"table": (name, body)})  # noqa: E731
    text = "LUT_3D_SIZE 2\n" + "".join(f"{r} {g} {b / 2}\n" for b in (0, 1) for g in (0, 1) for r in (0, 1))
    assert put(text).json() == {"name": "warm one"} and put(text).json() == {"name": "warm one"}  # alike: the same one
    assert put(text.replace("1 1 0.5", "1 1 0.4")).json() == {"name": "warm one 2"}
    assert put("no table").status_code == 422 and "Line 1" in put("no table").json()["error"]
    assert put(b"\xff\xfe\x00bin").status_code == 422 and put(text, "../../etc/x.cube").json()["name"] == "_.._etc_x"
    assert sorted(p.name for p in data.tables.iterdir()) == ["_.._etc_x.cube", "warm one 2.cube", "warm one.cube"]
    edit(picture, "set_value", to=1, setting="table", value="warm one")
    raw = np.frombuffer(
        picture.get("/p/1/look.bin", params={"of": '[{"table": "warm one"}]'}).content, np.uint8
    ).reshape(-1, 3)
    assert raw[-1].tolist() == [255, 255, 128]
    same = np.frombuffer(
        picture.get("/p/1/look.bin", params={"of": '[{"table": "../kovel"}]'}).content, np.uint8
    ).reshape(-1, 3)
    assert same[-1].tolist() == [255, 255, 255]  # there is none: nothing changes
    assert "warm one 2" in picture.get("/p/1/picture/panel", params={"items": "1"}).text
    edit(picture, "set_value", to=1, setting="contrast", value=20)
    assert (
        picture.post("/p/1/picture/looks", json={"name": " Old  harbour ", "item": 1}).json()["did"]
        == "Look saved as Old harbour"
    )
    rows = (
        picture.post("/p/1/picture/looks/rows", json={"name": "old harbour"}).status_code,
        picture.post("/p/1/picture/looks/rows", json={"name": "Old harbour"}).json()["settings"],
    )
    assert rows[1]["contrast"] == 20 and rows[1]["table"] == "warm one" and rows[1]["night"] is None
    for name, item in (("", 1), ("x", 3)):
        assert picture.post("/p/1/picture/looks", json={"name": name, "item": item}).status_code == 422
    assert picture.post("/p/1/picture/looks/away", json={"name": "Old harbour"}).status_code == 200
    assert picture.post("/p/1/picture/looks/away", json={"name": "Old harbour"}).status_code == 404


def test_white_and_one_camera_like_another(picture: TestClient, shown: Shown) -> None:
    data, r = shown
    got = picture.post("/p/1/picture/white", json={"rgb": [0.6, 0.5, 0.4]}).json()
    assert got["warmth"] < -30
    for odd in ([0, 0, 0], [1, 1, 1], [2, 0, 0], [0.5, 0.5], "x"):
        assert picture.post("/p/1/picture/white", json={"rgb": odd}).status_code == 422, odd
    a, b = r["tobin"].id, r["bell"].id
    did = picture.post("/p/1/picture/match", json={"recording": a, "other": b}).json()
    assert did["table"] == "tobin like bell" and "as a whole" in did["did"]
    assert recordings.get(data.db, a).settings["table"] == "tobin like bell"
    table = read_cube((data.tables / "tobin like bell.cube").read_text())
    mine, theirs = (
        np.concatenate([colours(data, x, f, x.rate).reshape(-1, 3) for f in range(0, 75, 10)])
        for x in (r["tobin"], r["bell"])
    )  # type: ignore[union-attr]
    assert np.abs(applied(table, mine).mean(0) - theirs.mean(0)).max() < np.abs(mine.mean(0) - theirs.mean(0)).max() / 2
    assert picture.post("/p/1/picture/match", json={"recording": a, "other": a}).status_code == 422
    assert picture.post("/p/1/picture/match", json={"recording": a, "other": 99}).status_code == 404
    assert picture.get("/p/1/picture/others", params={"recording": a}).json()[0][1] == "maren-a"


@pytest.mark.parametrize(("name", "x", "y"), [("maren-a", 0.59, 0.48), ("tobin", 0.4, 0.5)])
def test_the_speakers_face_is_found(shown: Shown, name: str, x: float, y: float) -> None:
    """Beard and cap included: within a tenth of the width of where it is, in every frame of the path (looked up by
    eye)."""
    data, r = shown
    for n in range(0, 75, 5):
        with av.open(r[name].path) as c:
            frame = next(f for k, f in enumerate(c.decode(video=0)) if k == n)
        row = faces_in(frame.to_ndarray(format="rgb24") / 255, n)
        if row:
            best = min(row, key=lambda f: abs(f.x - x))
            assert abs(best.x - x) < 0.1 and abs(best.y - y) < 0.15, (n, row)
    stories.edit(data.db, 1, None, "add_at_end", {"source": r[name].id, "start": 0, "length": 75})
    found = face_framing.face_path(data, r[name], story(data).pieces[0], story(data))
    assert found and all(abs(fx - x) < 0.1 and abs(fy - y) < 0.15 for _, fx, fy in found)


def test_jumps_are_punched_in_on_the_face_and_a_shape_keeps_it(picture: TestClient, shown: Shown) -> None:
    data, _ = shown
    did = picture.post("/p/1/picture/punch", json={"zoom": 150}).json()
    assert did["did"].startswith("1 of 3 pieces punched in at 1 jump")
    p = story(data).pieces[1]
    assert p.settings["zoom"] == 150 and 60 < p.settings["across"] < 95  # she sits right of the middle
    assert picture.post("/p/1/picture/punch", json={}).status_code == 422  # none is left
    history.undo(data.db, 1)
    assert not story(data).pieces[1].settings  # one step
    assert "zoom in first" in picture.post("/p/1/picture/faces", json={"items": [1]}).json()["error"]
    edit(picture, "lay_title", at=100, text="Maren")
    title = next(c.id for c in story(data).covers if c.title)
    assert "no picture to frame" in picture.post("/p/1/picture/faces", json={"items": [title]}).json()["error"]
    refused = picture.post("/p/1/story/edit", json={"command": "push", "items": [title], "last": 110})
    assert refused.json()["error"] == "The title “Maren” has no picture to frame."
    made_ = picture.post("/p/1/picture/shape", json={"shape": "9:16"}).json()
    assert made_["story"] != 1 and stories.current(data.db, 1) == made_["story"]
    upright, was = story(data), stories.load(data.db, 1).story
    assert not was.settings and dict(upright.settings)["story"]["shape"] == "9:16"
    assert picture.get("/p/1/story/plan").json()["size"] == [720, 1280]
    maren, tobin = upright.pieces[0].settings["across"], upright.pieces[2].settings["across"]
    assert 55 < maren < 80 and 20 < tobin < 45
    layer = make_plan(upright, recordings.sources(data.db, 1)).picture_at(0).layers[0]
    assert layer.part.fit == "filled"
    for odd in ("9:16", "5:3", "own", ""):
        assert picture.post("/p/1/picture/shape", json={"shape": odd}).status_code == 422


def test_a_title_is_drawn_for_page_and_file_alike(picture: TestClient, shown: Shown) -> None:
    data, _ = shown
    edit(picture, "lay_title", at=5, text="Maren / ferrywoman", how="lower third", length=50)
    run = next(
        r for r in picture.get("/p/1/story/plan").json()["pictures"] if any("title" in (x[4:] or [{}])[0] for x in r[2])
    )
    spec = run[2][-1][4]["title"]
    ask = {"of": json.dumps(spec), "width": 640, "height": 360}
    png = picture.get("/p/1/title.png", params=ask)
    assert png.headers["content-type"] == "image/png"
    for odd in (
        {"of": "{}"},
        {"of": "x"},
        {"of": json.dumps(spec | {"size": 1000})},
        {"of": json.dumps(spec | {"file": "/etc/passwd"})},
    ):
        assert picture.get("/p/1/title.png", params=ask | odd).status_code == 404
    assert picture.get("/p/1/title.png", params=ask | {"width": 99999}).status_code == 422
    put = lambda body: picture.post("/p/1/picture/fonts", files={"font": ("x.ttf", body)})  # noqa: E731
    assert put(b"no font").status_code == 422 and not [p for p in data.fonts.iterdir() if not p.name.startswith(".")]
    name = put(SERIF.read_bytes()).json()["name"]
    edit(picture, "set_value", to="story", setting="font", value=name)
    assert (
        name
        in picture.get(
            "/p/1/picture/panel", params={"items": str(next(c.id for c in story(data).covers if c.title))}
        ).text
    )
    assert picture.get("/p/1/picture/speaker", params={"at": 5}).json() == {"name": ""}  # nothing was heard yet
    transcripts.set_words(
        data.db,
        shown[1]["maren-a"].id,
        [Word("by", 4_000, 9_000, "Maren Vosk"), Word("hand", 10_000, 20_000, "Maren Vosk")],
    )
    assert picture.get("/p/1/picture/speaker", params={"at": 0}).json() == {"name": "Maren Vosk"}
    page = picture.get("/p/1/story/page").text
    assert "Title: Maren / ferrywoman" in page
    out = start_output(data, 1, Output(height=360))
    finish(data)
    assert jobs.get(data.db, out.id).state == "done"
    with av.open(jobs.get(data.db, out.id).params["out"]) as c:
        frames = [f.to_ndarray(format="rgb24").astype(int) for f in c.decode(video=0)]
    assert len(frames) == 120
    box = (slice(270, 320), slice(40, 240))
    assert (
        np.abs(frames[30][box] - frames[4][box]).mean() > 20 and np.abs(frames[30][:200] - frames[4][:200]).mean() < 12
    )
    done = CliRunner().invoke(main, ["story", "show", "--data", str(data.root)])
    assert done.exit_code == 0 and "title  50 frames" in done.output, done.output


def test_all_of_it_by_command(picture: TestClient, shown: Shown) -> None:
    data, r = shown
    run = lambda *a: CliRunner().invoke(main, [*a, "--data", str(data.root)])  # noqa: E731
    for args in (
        ("story", "set", "piece=1", "brightness=0.3", "zoom=120"),
        ("story", "set", "story", "shape=1:1"),
        ("set", "tobin", "warmth", "20"),
    ):
        done = run(*args)
        assert done.exit_code == 0, (args, done.output)
    s = story(data)
    assert s.pieces[0].settings["brightness"] == 0.3 and dict(s.settings)["story"]["shape"] == "1:1"
    assert recordings.get(data.db, r["tobin"].id).settings["warmth"] == 20
    assert run("story", "set", "piece=1", "brightness=9").exit_code != 0


def test_the_demo_shows_it(data: DataFolder) -> None:
    """An opening title, two lower thirds, a push, one look over a recording, a dissolve between covers, an upright
    version."""
    project = ensure(data)
    kept = stories.of_project(data.db, project)
    first = next(k for k in kept if "9 to 16" not in k.name).story
    titles = [c for c in first.covers if c.title]
    assert len(titles) == 3 and sum(c.settings["box"] > 0 for c in titles) == 2
    assert any(isinstance(p.settings["zoom"], tuple) for p in first.pieces)
    assert any("brightness" in r.settings or "warmth" in r.settings for r in recordings.of_project(data.db, project))
    ends = {(b, c.lane) for _, b, c in first.spans}
    assert any(c.settings["appear"] and (a, c.lane) in ends for a, _, c in first.spans if not c.title)
    upright = next(k for k in kept if "9 to 16" in k.name).story
    assert dict(upright.settings)["story"]["shape"] == "9:16" and upright.length == first.length
    assert stories.current(data.db, project) == next(k.id for k in kept if "9 to 16" not in k.name)
