"""Two editors in one story: each sees the other, no edit is lost, and one can hold the story."""

import pytest
from fastapi.testclient import TestClient

from kovel.data_folder import DataFolder
from kovel.store import history, stories, subclips
from kovel.store.recordings import Recording
from kovel.web import presence
from kovel.web.app import create_app

Coded = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def two(coded: Coded) -> tuple[TestClient, TestClient]:
    """Two browsers on one server."""
    app = create_app(coded[0], [], jobs=False)
    ana, ben = (TestClient(app, base_url="http://localhost:8463", headers={"x-kovel": "1"}) for _ in range(2))
    for c in (ana, ben):
        c.get("/p/1/together", params={"room": "story"})
    return ana, ben


def edit(c: TestClient, length: int) -> int:
    return c.post("/p/1/story/edit", json={"command": "insert_space", "at": 0, "length": length}).status_code


def test_each_sees_the_other_and_what_they_did(two: tuple[TestClient, TestClient], coded: Coded) -> None:
    ana, ben = two
    ana.post("/p/1/together/name", data={"name": "Ana", "room": "story"})
    seen = ben.get("/p/1/together", params={"room": "sound", "frame": 75, "seen": 0})
    assert "Ana" in seen.text and "700ms" in seen.text and "hx-trigger" not in seen.headers
    mine = ana.get("/p/1/together", params={"room": "story"}).text
    assert "Editor 2" in mine and "0:03" in mine and "Sound" in mine
    assert edit(ana, 20) == 200
    told = ben.get("/p/1/together", params={"seen": 0})
    assert told.headers["hx-trigger"] == "moved"
    assert 'data-revision="1"' in ben.get("/p/1/story/revision", params={"seen": 0}).text
    assert ben.get("/p/1/together", params={"seen": 1}).headers.get("hx-trigger") is None
    for n in range(1, 11):  # in turns, each from what it sees
        assert edit(ana, n) == edit(ben, n) == 200
    assert stories.load(coded[0].db, 1).story.length == 20 + 2 * 55
    assert (
        "httponly"
        in TestClient(ana.app, base_url="http://localhost:8463").get("/p/1/together").headers["set-cookie"].lower()
    )


def lengths(data: DataFolder) -> list[int]:
    return [p.length for p in stories.load(data.db, 1).story.pieces]


def test_undo_takes_ones_own_edit_and_asks_before_anothers(two: tuple[TestClient, TestClient], coded: Coded) -> None:
    """Nobody's edit goes without a word: own ones first, from under those of others; else it is said whose it would
    be."""
    (ana, ben), data = two, coded[0]
    ana.post("/p/1/together/name", data={"name": "Ana"})
    ben.post("/p/1/together/name", data={"name": "Ben"})

    def turn(c: TestClient, do: str = "undo", **more: str) -> tuple[int, str]:
        answer = c.post(f"/p/1/story/{do}", data=more, headers={"accept": "application/json"})
        return answer.status_code, answer.text if answer.status_code == 202 else answer.json().get(
            "did", answer.json().get("error")
        )

    assert edit(ana, 10) == edit(ben, 20) == edit(ana, 30) == edit(ben, 40) == 200
    assert lengths(data) == [40, 30, 20, 10]
    assert turn(ana) == (200, "Undone: A space of 30 frames") and lengths(data) == [40, 20, 10]
    assert turn(ana) == (200, "Undone: A space of 10 frames") and lengths(data) == [40, 20]
    code, asked = turn(ana)  # there is nothing more of her own
    assert code == 202 and "by Ana" not in asked and "Undo all the same" in asked and lengths(data) == [40, 20]
    assert turn(ana, "redo") == (200, "Done again: A space of 10 frames") and lengths(data) == [40, 20, 10]
    assert turn(ana, "redo")[0] == 200 and lengths(data) == [40, 30, 20, 10]
    assert turn(ana, "redo") == (422, "There is nothing to redo.")
    assert turn(ana)[0] == turn(ana)[0] == turn(ana, "redo")[0] == 200 and lengths(data) == [40, 20, 10]
    assert turn(ben) == (200, "Undone: A space of 40 frames") and lengths(data) == [20, 10]
    trim = {"command": "trim", "piece": stories.load(data.db, 1).story.pieces[0].id, "edge": "out", "delta": -5}
    assert ana.post("/p/1/story/edit", json=trim).status_code == 200 and lengths(data) == [15, 10]
    code, asked = turn(ben)  # his last is the one that she has trimmed since
    assert code == 202 and "cannot be undone alone" in asked and "by Ana" in asked
    assert turn(ben, others="true")[0] == 200 and lengths(data) == [20, 10]
    assert turn(ana, "redo")[0] == 200 and lengths(data) == [15, 10]
    assert turn(ana)[0] == 200 and turn(ben, "redo")[0] == 200 and lengths(data) == [40, 20, 10]  # each their own
    assert edit(ana, 50) == turn(ana)[0] == 200
    code, asked = turn(ben, "redo")
    assert code == 202 and "would be done again is by Ana" in asked
    assert turn(ben, "redo", others="true")[0] == 200 and lengths(data) == [50, 40, 20, 10]
    told = ben.get("/p/1/story/history").text
    assert "· Ana" in told and "· Ben" not in told
    assert history.undo(data.db, 1)[1].did.startswith(
        "Undone: "
    )  # a program is nobody: as ever, and it says what it undid


def test_a_story_is_held_by_one_and_taken_over(
    two: tuple[TestClient, TestClient], coded: Coded, monkeypatch: pytest.MonkeyPatch
) -> None:
    ana, ben = two
    ana.post("/p/1/together/name", data={"name": "Ana"})
    assert "You hold it" in ana.post("/p/1/together/hold", data={"on": "1"}).text
    assert edit(ana, 10) == 200 and edit(ben, 10) == 423
    refused = ben.post("/p/1/story/undo", data={})
    assert refused.status_code == 423 and "Ana is working on this story" in refused.text
    data, r = coded
    clip = subclips.add(data.db, r["boat"].id, 0, 20, name="bite")
    before = stories.load(data.db, 1)
    for path in (
        f"/p/1/subclips/{clip.id}/to-story",
        "/p/1/stories/1/delete",
    ):  # whatever changes it, from whichever room
        assert ben.post(path).status_code == 423, path
    assert ben.post("/p/1/picture/value", json={}).status_code in (404, 405, 422)  # what changes nothing is not held up
    assert stories.load(data.db, 1) == before
    program = TestClient(ana.app, base_url="http://localhost:8463", headers={"x-kovel": "1"})
    assert edit(program, 10) == 423
    assert ben.post("/p/1/stories", data={"name": "Mine"}).status_code == 204  # a story of one's own is another one
    assert edit(ben, 10) == 200
    stories.open_story(coded[0].db, 1, 1)
    assert "Take it over" in ben.get("/p/1/together").text
    assert "You hold it" in ben.post("/p/1/together/hold", data={"on": "1"}).text
    assert edit(ben, 10) == 200 and edit(ana, 10) == 423
    ana.post("/p/1/together/hold", data={"on": "0"})  # not hers to give back
    assert edit(ana, 10) == 423
    monkeypatch.setattr(presence, "GONE", 0.0)  # who is not heard of any more holds nothing
    assert edit(ana, 10) == 200 and "together-more" not in ana.get("/p/1/together").text
    assert stories.load(coded[0].db, 1).story.length == 30


def test_who_closes_the_page_is_soon_gone(two: tuple[TestClient, TestClient], monkeypatch: pytest.MonkeyPatch) -> None:
    ana, ben = two
    assert ana.post("/p/1/together/left").status_code == 204
    assert "Editor 1" in ben.get("/p/1/together").text  # she may be on the way to another room
    monkeypatch.setattr(presence, "SOON", 0.0)
    ana.post("/p/1/together/left")
    assert "Editor 1" not in ben.get("/p/1/together").text
    ana.get("/p/1/together")
    assert "Editor 1" in ben.get("/p/1/together").text


def test_a_browser_is_one_editor_from_its_first_page_on(two: tuple[TestClient, TestClient]) -> None:
    """Several of its pages ask at once before an answer is there: all of them are the same editor."""
    new = TestClient(two[0].app, base_url="http://localhost:8463", headers={"x-kovel": "1"})
    first = new.get("/p/1/story", headers={"accept": "text/html,*/*"})
    assert first.headers["set-cookie"].startswith("kovel-editor=") and "HttpOnly" in first.headers["set-cookie"]
    assert "set-cookie" not in new.get("/p/1/together").headers
    assert "set-cookie" not in new.get("/p/1/log", headers={"accept": "text/html,*/*"}).headers


def test_odd_names_and_cookies_are_nobodys(two: tuple[TestClient, TestClient]) -> None:
    ana, ben = two
    assert ana.post("/p/1/together/name", data={"name": " \x00 "}).status_code == 422
    assert ana.post("/p/1/together/name", data={"name": "x" * 30}).status_code == 422
    ana.post("/p/1/together/name", data={"name": "<b>Ana</b>"})
    assert "<b>Ana" not in ben.get("/p/1/together").text and "&lt;b&gt;Ana" in ben.get("/p/1/together").text
    odd = TestClient(
        ana.app, base_url="http://localhost:8463", headers={"x-kovel": "1"}, cookies={"kovel-editor": "../x"}
    )
    assert odd.get("/p/1/together", params={"room": "x", "frame": -5}).status_code == 200
    assert odd.get("/p/9/together").status_code == 404
