"""What is acknowledged is kept: killed servers, stale pages, undo after a restart, hostile requests."""

import os
import random
import signal
import subprocess
import sys
import wave
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from kovel.core.errors import Invalid
from kovel.core.sound.beats import Beats
from kovel.core.story.model import Refused
from kovel.core.story.patch import story_to_json
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.services.tighten import proposals
from kovel.store import decisions, history, projects, recordings, steps, stories, subclips, transcripts
from kovel.store.decisions import QuickDesk
from kovel.store.stories import Stale
from kovel.store.word_rows import write_words
from kovel.web.app import create_app

EDITOR = """
import random, sys
from pathlib import Path
from kovel.core.story.model import Refused
from kovel.core.words.transcript import Word
from kovel.store import history, stories
from kovel.data_folder import DataFolder
data, rng = DataFolder(Path(sys.argv[1])), random.Random(int(sys.argv[2]))
while True:
    k = stories.load(data.db, 1)
    n, r = k.story.length, rng.random
    name, v = rng.choice([
        ("insert", dict(at=int(n * r()), source=rng.choice([1, 2]), start=int(300 * r()), length=1 + int(90 * r()))),
        ("lay_cover", dict(source=3, at=int(n * r()), until=int(n * r()) + 20, start=5)),
        ("extract", dict(a=int(n * r()), b=int(n * r()))), ("split", dict(at=int(n * r()))), ("undo", {}), ("redo", {})])
    try:
        k, _ = history.undo(data.db, 1) if name == "undo" else history.redo(data.db, 1) if name == "redo" else stories.edit(data.db, 1, k.revision, name, v)
    except Refused:
        continue
    print(k.revision, flush=True)
"""


def sources_only(data: DataFolder) -> None:
    """Three recordings as rows; no media are needed to edit."""
    projects.create(data.db, "Kept")
    facts = {
        "size": 1,
        "rate": [25, 1],
        "frames": 2000,
        "picture": True,
        "sound": True,
        "width": 16,
        "height": 9,
        "channels": 1,
        "start_timecode": "",
        "remarks": [],
    }
    for i in range(3):
        recordings.add(data.db, 1, f"/nowhere/{i}.mov", f"r{i}", "interview", facts)


def test_sigkill_amid_edits_loses_no_acknowledged_edit(data: DataFolder) -> None:
    """Ten times: a process edits as fast as it can and is killed; the story is whole and no older than what it told."""
    sources_only(data)
    root, rng = data.root, random.Random(3)
    told = 0
    env = {**os.environ, "PYTHONPATH": "src"}
    for turn in range(10):
        p = subprocess.Popen(
            [sys.executable, "-c", EDITOR, str(root), str(turn)], stdout=subprocess.PIPE, text=True, env=env
        )
        assert p.stdout
        for _ in range(rng.randrange(3, 30)):
            line = p.stdout.readline()
            assert line, "the editor stopped by itself"
            told = int(line)
        p.send_signal(signal.SIGKILL)
        rest = p.stdout.read().split("\n")
        told = max([told, *(int(x) for x in rest[:-1] if x)])
        p.wait()
        fresh = DataFolder(root)
        kept = stories.load(fresh.db, 1)
        assert told <= kept.revision <= told + 1  # one may be on disk that it had no time to tell
        assert fresh.db.read().execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        assert [p.id for p in kept.story.pieces] == list(dict.fromkeys(p.id for p in kept.story.pieces))
    while True:  # and the journal leads all the way back to nothing, and forward again
        try:
            kept, _ = history.undo(data.db, 1)
        except Refused:
            break
    assert kept.story.pieces == () and kept.story.covers == () and not kept.can_undo


def test_undo_and_redo_are_exact_after_a_restart(data: DataFolder) -> None:
    sources_only(data)
    states = [story_to_json(stories.load(data.db, 1).story)]
    rng = random.Random(1)
    for i in range(60):
        n = stories.load(data.db, 1).story.length
        steps = [
            ("insert", {"at": rng.randrange(n + 1), "source": 1, "start": rng.randrange(900), "length": 40}),
            ("lay_cover", {"source": 2, "at": n // 2, "until": n // 2 + 9, "start": i}),
            ("move", {"piece": 1, "before": None}),
        ]
        try:
            kept, _ = stories.edit(data.db, 1, None, *steps[i % 3])
        except Refused:
            continue
        states.append(story_to_json(kept.story))
    again = DataFolder(data.root)
    for step, wants in ((history.undo, states[-2::-1]), (history.redo, states[1:])):
        for want in wants:
            told, _ = step(again.db, 1)
            assert story_to_json(told.story) == want and told == stories.load(again.db, 1)
    with pytest.raises(Refused, match="nothing to redo"):
        history.redo(again.db, 1)


def test_a_stale_edit_is_told_and_changes_nothing(data: DataFolder) -> None:
    sources_only(data)
    first, _ = stories.edit(data.db, 1, 0, "add_at_end", {"source": 1, "start": 0, "length": 50})
    with pytest.raises(Stale, match="changed elsewhere"):
        stories.edit(data.db, 1, 0, "add_at_end", {"source": 2, "start": 0, "length": 50})
    assert stories.load(data.db, 1) == first


def test_projects_and_subclips(data: DataFolder) -> None:
    sources_only(data)
    subclips.add(data.db, 1, 10, 60, name="bite", tags="Flood; bell, flood")
    stories.edit(data.db, 1, None, "add_at_end", {"source": 1, "start": 10, "length": 50})
    stories.edit(data.db, 1, None, "lay_cover", {"source": 2, "at": 5, "until": 15, "start": 0})
    copy = projects.duplicate(data.db, 1)
    a, b = stories.load(data.db, 1).story, stories.load(data.db, stories.current(data.db, copy.id)).story
    assert [(p.start, p.length) for p in a.pieces] == [(p.start, p.length) for p in b.pieces] and b.covers[
        0
    ].source == recordings.of_project(data.db, copy.id)[1].id
    assert subclips.of_project(data.db, copy.id)[0].tags == ("flood", "bell")
    projects.set_deleted(data.db, 1, True)
    assert [p.name for p in projects.listing(data.db)] == ["Kept (copy)"]
    projects.set_deleted(data.db, 1, False)
    for bad in ("", " \n ", "\U0001f6a3" * 100):
        with pytest.raises(Invalid):
            projects.create(data.db, bad)
    assert projects.create(data.db, "\U0001f6a3" * 80).name == "\U0001f6a3" * 80
    with pytest.raises(Invalid, match=r"29\.97"):
        projects.create(data.db, "x", "25", drop=True)
    with pytest.raises(Invalid, match="uses this recording"):
        recordings.remove(data.db, 1)
    with pytest.raises(Invalid, match="past the end"):
        subclips.add(data.db, 1, 1990, 2001)


def test_what_was_said_is_found(data: DataFolder) -> None:
    sources_only(data)
    text = (
        "The ferry ran all night. Nobody crossed in the flood, though. "
        "Caf\u00e9 talk: the ferryman\u2019s bell rang twice!"
    )
    said = [Word(w, i * 24000, i * 24000 + 20000, "Maren") for i, w in enumerate(text.split())]
    transcripts.set_words(data.db, 1, said)
    found = lambda q: [f.text.replace("\x02", "[").replace("\x03", "]") for f in transcripts.search(data.db, 1, q)]  # noqa: E731
    assert found("FERRY") == ["The [ferry] ran all night."] and len(found("ferry*")) == 2
    assert found('"the flood"') == ["Nobody crossed in [the flood], though."] and found('"flood the"') == []
    assert (
        found("cafe bell") == ["[Caf\u00e9] talk: the ferryman\u2019s [bell] rang twice!"]
        and len(found("night nobody")) == 0
    )
    for odd in ("", '"', "***", "a AND", "NEAR(", "' OR 1=1 --", "-", "(("):
        assert isinstance(found(odd), list)
    transcripts.set_words(data.db, 1, said[:5])
    assert found("bell") == [] and transcripts.search(data.db, 1, "ferry")[0].end == 4 * 24000 + 20000
    with data.db.write() as c:
        c.execute("INSERT INTO sentence_search (sentence_search) VALUES ('integrity-check')")


@pytest.fixture
def client(data: DataFolder, tmp_path: Path) -> TestClient:
    sources_only(data)
    (tmp_path / "media").mkdir()
    return TestClient(
        create_app(data, [tmp_path / "media"], jobs=False),
        base_url="http://127.0.0.1:8463",
        headers={"x-kovel": "1"},
        raise_server_exceptions=False,
    )


def test_words_are_read_anew_whoever_changed_them(data: DataFolder) -> None:
    """Words are kept in memory until they change: by this process or another, by undo, by a recording in a gone
    one's place."""
    p = projects.create(data.db, "Words")
    facts = {
        "size": 1,
        "rate": [25, 1],
        "frames": 900,
        "picture": True,
        "sound": True,
        "width": 16,
        "height": 9,
        "channels": 1,
        "start_timecode": "",
        "remarks": [],
    }
    r = recordings.add(data.db, p.id, "/a.mov", "a", "interview", facts).id
    other = DataFolder(data.root)  # as another process sees it
    a, b = ([Word(f"{x}{i}", i * 9000, i * 9000 + 8000, "M") for i in range(5)] for x in "ab")

    def both() -> list[str]:
        here, there = (transcripts.words(d.db, r) for d in (data, other))
        assert here == there and transcripts.words(data.db, r) is here  # not read again in between
        return [w.text for w in here]

    assert both() == []
    transcripts.set_words(data.db, r, a)
    assert both() == ["a0", "a1", "a2", "a3", "a4"]
    transcripts.set_words(other.db, r, b)
    assert both() == ["b0", "b1", "b2", "b3", "b4"]
    transcripts.change_words(data.db, r, 1, b[1:3], [Word("joined", 9000, 26_000, "M")], "joined")
    assert both() == ["b0", "joined", "b3", "b4"]
    steps.undo_or_redo(other.db, p.id)
    assert both() == ["b0", "b1", "b2", "b3", "b4"]
    steps.undo_or_redo(data.db, p.id, redo=True)
    assert both() == ["b0", "joined", "b3", "b4"]
    with pytest.raises(Invalid):
        transcripts.change_words(other.db, r, 0, a[:1], b[:1], "stale")
    with pytest.raises(ZeroDivisionError), data.db.write() as c:
        write_words(c, r, 0, 4, a)
        raise ZeroDivisionError
    assert both() == ["b0", "joined", "b3", "b4"]
    recordings.remove(other.db, r)
    recordings.forget(other.db, [r])
    again = recordings.add(other.db, p.id, "/b.mov", "b", "interview", facts).id
    assert again > r and both() == []  # a number is never given twice


def test_only_its_own_pages_may_talk_to_it(client: TestClient) -> None:
    ok = client.get("/")
    assert ok.status_code == 200 and "script-src 'self'" in ok.headers["content-security-policy"]
    assert client.get("/", headers={"host": "evil.example"}).status_code == 421
    edit = {"command": "add_at_end", "source": 1, "start": 0, "length": 50}
    for headers in ({"origin": "http://evil.example"}, {"origin": "null"}, {"origin": "http://127.0.0.1:9999"}):
        assert client.post("/p/1/story/edit", json=edit, headers=headers).status_code == 403
    assert client.post("/p/1/story/edit", json=edit, headers={"x-kovel": ""}).status_code == 403
    assert client.post("/p/1/story/edit", json=edit, headers={"origin": "http://127.0.0.1:8463"}).status_code == 200
    for path in ("/media/1/..%2f..%2fkovel.db", "/media/1/kovel.db", "/media/..%2fkovel.db/x", "/static/..%2fapp.py"):
        assert client.get(path).status_code in (404, 422)


def test_edits_over_http_are_typed_and_refused_in_words(client: TestClient) -> None:
    def edit(**body: object) -> tuple[int, dict]:
        r = client.post("/p/1/story/edit", json=body, headers={"accept": "application/json"})
        return r.status_code, r.json()

    assert edit(command="add_at_end", source=1, start=0, length=50)[1]["length"] == 50
    assert edit(command="split", at=20, revision=1)[1]["revision"] == 2
    assert edit(command="split", at=30, revision=1) == (
        409,
        {
            "error": "The story was changed elsewhere meanwhile. Here it is as it stands now; your edit was not made. Please try again."
        },
    )
    for bad in (
        {"command": "split"},
        {"command": "split", "at": "5"},
        {"command": "split", "at": 5, "x": 1},
        {"command": "drop table"},
        {"command": "split", "at": 2.5},
    ):
        assert edit(**bad)[0] == 422
    status, body = edit(command="extract", a=10, b=400)
    assert status == 422 and body["error"] == "The range runs past the end of the story."
    stale = client.post("/p/1/story/edit", json={"command": "split", "at": 5, "revision": 1})
    assert stale.status_code == 409 and 'data-revision="2"' in stale.text and "changed elsewhere" in stale.text


def test_bad_input_brings_clear_words_and_nothing_half_done(
    client: TestClient, data: DataFolder, tmp_path: Path
) -> None:
    before = len(recordings.of_project(data.db, 1))

    def path(p: str) -> str:
        return client.post("/p/1/footage/path", data={"path": p}).text

    assert "outside the folders" in path("/etc/passwd")
    assert "outside the folders" in path(str(tmp_path / "media" / ".." / "data"))
    (tmp_path / "media" / "link.mp4").symlink_to("/etc/passwd")
    assert "outside the folders" in path(str(tmp_path / "media" / "link.mp4"))
    assert "no file or folder" in path("/no/such\x00thing") and "Type the path" in path("  ")
    for name, body, says in (
        ("a.mp4", b"text " * 200, "text file"),
        ("a.m3u8", b"#EXTM3U\n", "playlist"),
        ("a.mov", b"", "empty"),
    ):
        r = client.post("/p/1/footage/upload", files={"files": (name, body)})
        assert says in r.text and name in r.text and "Traceback" not in r.text
    assert len(recordings.of_project(data.db, 1)) == before and not any(p.is_file() for p in data.uploads(1).rglob("*"))
    r = client.post("/projects", data={"name": "\U0001f6a3" * 100})
    assert r.status_code == 422 and "100 characters" in r.text
    assert client.get("/p/99/story").status_code == 404 and client.get("/p/1/export/xyz").status_code == 404
    assert "<b>x" not in client.post("/projects/1/rename", data={"name": "<b>x</b>"}).text
    with wave.open(str(tmp_path / "tone.wav"), "wb") as w:
        w.setparams((1, 2, 8000, 0, "NONE", ""))
        w.writeframes(b"\x10\x00" * 8000)
    body = (tmp_path / "tone.wav").read_bytes()
    told = [client.post("/p/1/footage/upload", files={"files": ("tone.wav", body)}).text for _ in range(2)]
    assert "same file as tone, which is here already" in told[1] and "same file" not in told[0]


def test_a_transcript_is_taken_whole_or_told(client: TestClient, data: DataFolder) -> None:
    def take(name: str, body: str) -> str:
        return client.post(
            "/p/1/recordings/1/words", files={"transcript_file": (name, body.encode())}, headers={"hx-request": "true"}
        ).text

    good = (
        "WEBVTT\n\n00:01.000 --> 00:02.000\nHello there\n\n00:05.000 --> 00:04.000\nbackwards\n\n01:39:00.000 --> "
        "01:39:01.000\nlate\n"
    )
    told = take("a.vtt", good)
    assert (
        "2 words taken" in told and "Line 6: it ends before it begins" in told and "1 words lie after the end" in told
    )
    for name, body, says in (
        ("a.vtt", "WEBVTT\n", "not a transcript"),
        ("a.json", "{}", "no words with times"),
        ("a.srt", "1\n00:00:09,000 --> 00:00:08,000\nx\n", "no words in a.srt"),
        ("a.txt", "plain", "no sound that is ready"),
        ("a.txt", " \n", "a.txt is empty"),
    ):
        assert says in take(name, body)
    assert [w.text for w in transcripts.words(data.db, 1)] == ["Hello", "there"]
    out = client.get("/p/1/recordings/1/words.vtt")
    assert "attachment" in out.headers["content-disposition"] and "<00:00:01.500>there" in out.text
    assert "00:00:01,000 --> 00:00:02,000\nHello there" in client.get("/p/1/recordings/1/words.srt").text


def test_under_which_names_it_answers(data: DataFolder) -> None:
    """Names compare without case (RFC 9110, 4.2.3); bound to every address it answers to any number, never to a
    foreign name."""

    def status(host: str, **kw: object) -> int:
        app = create_app(data, [], jobs=False, **kw)  # type: ignore[arg-type]
        return TestClient(app, base_url="http://localhost").get("/static/kovel.css", headers={"host": host}).status_code

    assert [
        status(h)
        for h in ("LOCALHOST:8463", "localhost.", "[::1]:8463", "127.0.0.1", "192.168.1.7:8463", "evil.example")
    ] == [200] * 4 + [421] * 2
    wide = [
        status(h, hosts={"*", "Studio"}, passphrase="open")
        for h in ("192.168.1.7:8463", "[fd00::7]:8463", "studio:8463", "evil.example", "1.2.3.evil")
    ]
    assert wide == [200, 200, 200, 421, 421]


def test_other_machines_need_the_passphrase(data: DataFolder) -> None:
    app = create_app(data, [], hosts={"studio"}, passphrase="two of us", jobs=False)
    c = TestClient(app, base_url="http://studio:8463", headers={"x-kovel": "1"}, follow_redirects=False)
    assert c.get("/").headers["location"] == "/login" and c.post("/projects", data={"name": "x"}).status_code == 401
    assert c.post("/login", data={"passphrase": "wrong"}).status_code == 403
    assert c.post("/login", data={"passphrase": "two of us"}).status_code == 303 and c.get("/").status_code == 200
    assert projects.listing(data.db) == []


def test_decisions_go_back_to_the_first_one_and_go_along_with_a_copy(data: DataFolder) -> None:
    p = projects.create(data.db, "Ferry")
    facts = {
        "size": 1,
        "rate": [25, 1],
        "frames": 100,
        "picture": True,
        "sound": True,
        "width": 16,
        "height": 9,
        "channels": 1,
        "start_timecode": "",
        "remarks": [],
    }
    r = recordings.add(data.db, p.id, "/a.mov", "a", "interview", facts)
    for n in range(90):
        proposals.put(data, r.id, proposals.Desk(off=[str(n)]))
    decisions.put_beats(data.db, r.id, Beats((100, 200), 96.0, 1, 3))
    decisions.put_quick(data.db, r.id, QuickDesk(sensitivity=0.7, off=[5], music=r.id))
    copy = projects.duplicate(data.db, p.id)
    (twin,) = recordings.of_project(data.db, copy.id)
    assert proposals.desk(data, twin.id).off == ["89"] and decisions.beats(data.db, twin.id) == Beats(
        (100, 200), 96.0, 1, 3
    )
    assert decisions.quick(data.db, twin.id) == QuickDesk(sensitivity=0.7, off=[5], music=twin.id)
    for n in range(88, -1, -1):
        proposals.undo(data, r.id)
        assert proposals.desk(data, r.id).off == [str(n)]
    proposals.undo(data, r.id)
    assert proposals.desk(data, r.id).off == []
    with pytest.raises(Invalid, match="nothing to undo"):
        proposals.undo(data, r.id)
    for n in range(400):
        with steps.step(data.db, p.id, str(n)):
            pass
    assert [steps.undo_or_redo(data.db, p.id)[0] for _ in range(400)] == [str(n) for n in range(399, -1, -1)]
