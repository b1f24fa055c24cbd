"""Meaning: measured on interviews written for it (tests/data/interviews.txt), then through store, jobs, pages and
command line."""

import json
import random
import re
import shutil
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from math import comb
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.errors import Invalid
from kovel.core.story.model import Sync
from kovel.core.words import radio_cut, retold
from kovel.core.words import theme_groups as grouping
from kovel.core.words.nearness import MANY, Said, content, foreign, nearest, same_answer
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.media.sentence_vectors import english_folder, vectors
from kovel.services.handoff import archiving
from kovel.services.log import proposing, sentence_meaning, theming
from kovel.store import history, jobs, projects, recordings, steps, stories, subclips, theme_rows, transcripts
from kovel.store.recordings import Recording
from tests.conftest import finish, once, said
from tests.test_archive import write

Coded = tuple[DataFolder, dict[str, Recording]]
FILE = Path(__file__).parent / "data" / "interviews.txt"
MORE = FILE.with_name("more_interviews.txt")


class Interviews(NamedTuple):
    """Sentences with their place, the writer's theme of each, pairs that tell the same, questions with the sentence
    that answers."""

    said: list[Said]
    theme: list[str]
    same: set[tuple[int, int]]
    asked: dict[str, int]
    rows: np.ndarray
    questions: np.ndarray


def read() -> tuple[list[Said], list[str], dict[int, list[int]], dict[int, int], dict[int, str]]:
    body, ask = FILE.read_text().split("\n??\n")
    rows: list[Said] = []
    of: list[str] = []
    pairs: dict[int, list[int]] = {}
    answers: dict[int, int] = {}
    theme = who = ""
    at = 0
    for line in body.split("\n\n", 1)[1].splitlines():
        if line.startswith("== "):
            theme = line[3:]
        elif re.fullmatch(r"[A-Z]\w+:", line):
            who, at = line[:-1], at + 4 * 48_000  # the question that is asked in between
        elif line.strip():
            m = re.fullmatch(r"(.*?)((?: [=@]\d+)*)", line)
            assert m
            for tag in m[2].split():
                if tag[0] == "=":
                    pairs.setdefault(int(tag[1:]), []).append(len(rows))
                else:
                    answers[int(tag[1:])] = len(rows)
            end = at + 16_000 * len(m[1].split())
            rows.append(Said(ord(who[0]), at, end, who, m[1]))
            of.append(theme)
            at = end + 9_600
    asked = {int(line.split()[0]): line.split(" ", 1)[1] for line in ask.splitlines() if line}
    return rows, of, pairs, answers, asked


@pytest.fixture(scope="session")
def interviews(pytestconfig: pytest.Config) -> Interviews:
    rows, of, pairs, answers, asked = read()
    made = once(
        pytestconfig,
        "meant",
        lambda d: np.savez(
            d / "v.npz", a=vectors([s.text for s in rows]), b=vectors([asked[n] for n in sorted(asked)])
        ),
        FILE,
        "media/sentence_vectors.py",
    )
    kept = np.load(made / "v.npz")
    same = {(min(p), max(p)) for p in pairs.values()}
    return Interviews(rows, of, same, {asked[n]: answers[n] for n in sorted(asked)}, kept["a"], kept["b"])


@pytest.fixture(scope="session")
def company(pytestconfig: pytest.Config) -> tuple[list[Said], np.ndarray]:
    """Sentences that tell nothing twice, by twenty people, and their meaning."""
    text = MORE.read_text().split("\n\n", 1)[1].splitlines()
    made = once(
        pytestconfig, "meant-more", lambda d: np.savez(d / "v.npz", a=vectors(text)), MORE, "media/sentence_vectors.py"
    )
    rows = [Said(1000 + n // 14, n * 10**6, n * 10**6 + 200_000, f"Speaker {n // 14}", t) for n, t in enumerate(text)]
    return rows, np.load(made / "v.npz")["a"]


def rand_index(a: list[str], b: list[int]) -> float:
    """Adjusted Rand index (Hubert and Arabie 1985)."""
    inside, rows, cols = (sum(comb(n, 2) for n in Counter(x).values()) for x in (zip(a, b, strict=True), a, b))
    chance = rows * cols / comb(len(a), 2)
    return (inside - chance) / ((rows + cols) / 2 - chance)


def test_a_question_finds_its_answer_whatever_its_words(interviews: Interviews) -> None:
    """The bar of the issue: among the first five in 85 %; by word alone under 40 %. A tenth of the questions is in
    other languages."""
    same = same_answer(interviews.said)
    assert len(interviews.said) >= 300 and len(interviews.asked) == 60
    found = by_word = others = 0
    for (question, answer), asked in zip(interviews.asked.items(), interviews.questions, strict=True):
        got = [i for i, _ in nearest(asked, interviews.rows, same, question, 5)]
        assert len(got) == len(set(got)) <= 5
        found += answer in got
        others += foreign(question)
        words = set(grouping.words_of(question))
        score = [len(words & set(grouping.words_of(s.text))) for s in interviews.said]
        by_word += (
            score[answer] > 0
            and sorted(score, reverse=True)[:5].count(score[answer]) > 0
            and score[answer] >= sorted(score)[-5]
        )
    assert found >= 0.85 * 60 and by_word < 0.4 * 60, (found, by_word)
    assert others >= 6
    assert not any(map(foreign, ("who was afraid", "boat", "a man on the pier"))) and foreign("où est la mère")
    assert nearest(interviews.questions[0], interviews.rows[:0], same[:0], "x", 5) == []
    nothing = vectors(["quarterly derivatives taxation of semiconductor subsidiaries"])[0]
    assert len(nearest(nothing, interviews.rows, same, "quarterly derivatives taxation", 50)) < 15


def test_what_is_told_twice_is_found(interviews: Interviews, company: tuple[list[Said], np.ndarray]) -> None:
    """The bar of the issue: 40 pairs among 600 sentences, F1 0.8."""
    more, their = company
    everybody = [*interviews.said, *more]
    assert len(interviews.same) == 40 and len(everybody) >= 600
    got = {(p.a, p.b) for p in retold.told_twice(everybody, np.concatenate([interviews.rows, their]))}
    right = len(got & interviews.same)
    f1 = 2 * right / (len(got) + len(interviews.same))
    assert f1 >= 0.8, (f1, [(everybody[a].text, everybody[b].text) for a, b in got - interviews.same])
    again = [
        *interviews.said,
        Said(1, 10**9, 10**9 + 9, "Ines", "Yes, I do."),
    ] * 2  # what is said often is not told twice
    rows = np.concatenate([interviews.rows, interviews.rows[:1]])
    pairs = retold.told_twice(again, np.concatenate([rows, rows]))
    n = len(interviews.said)
    assert not any(p.a == n or p.b == n for p in pairs)


def test_how_something_was_told() -> None:
    def words(text: str, gap: int = 4_800) -> list[Word]:
        out, at = [], 0
        for w in text.split():
            out.append(Word(w, at, at + 9_600))
            at += 9_600 + (48_000 if w.endswith("...") else gap)
        return out

    good = retold.telling(words("The water came up the street at four in the morning"))
    bad = retold.telling(words("The water um the water came... up the uh street at four"))
    assert good.stumbles == 0 and good.pauses == 0 and good.fluent == 1.0 and good.words == 11
    assert bad.stumbles >= 2 and bad.pauses == 1.0 and bad.fluent < 0.3
    assert abs(good.pace - 11 * 60 / (good.length / 48_000)) < 0.01 and retold.telling([]).words == 0
    assert content("Um, the the boat, uh, was ours") == "the boat, was ours" and content("um") == "um"


def test_statements_of_one_subject_stand_together(interviews: Interviews) -> None:
    """The bar of the issue: an adjusted Rand index of 0.6 against the writer's own themes."""
    found = grouping.statements(interviews.said, interviews.rows)
    assert [i for s in found for i in range(s.first, s.last)] == list(range(len(interviews.said)))
    assert all(s.end - s.start <= grouping.LONGEST or s.last - s.first < 2 * grouping.FEWEST for s in found)
    meant = grouping.meant(found, interviews.rows)
    groups = grouping.grouped(meant)
    label = [0] * len(interviews.said)
    for s, g in zip(found, groups, strict=True):
        label[s.first : s.last] = [g] * (s.last - s.first)
    assert rand_index(interviews.theme, label) >= 0.6
    sizes = Counter(groups)
    assert [sizes[g] for g in sorted(sizes)] == sorted(sizes.values(), reverse=True)
    named = grouping.names([s.text for s in found], groups)
    assert len(set(named.values())) == len(named)
    for g, name in named.items():
        mine = " ".join(s.text.casefold() for s, x in zip(found, groups, strict=True) if x == g)
        assert all(w in mine and w not in grouping.SMALL for w in name.split(", "))
    assert grouping.grouped(meant[:0]) == [] and grouping.grouped(meant[:1]) == [0]


def test_numbers_do_not_depend_on_what_else_is_asked() -> None:
    texts = [
        "We sold the boat.",
        "",
        "Nobody has ever told me how frightened she was in that long night on the river.",
        "¿Quién?",
    ]
    together = vectors(texts)
    alone = np.concatenate([vectors([t]) for t in texts])
    assert np.abs(together - alone).max() < 2e-3
    for part in (slice(0, MANY), slice(MANY, None)):
        assert np.allclose(np.linalg.norm(together[:, part], axis=1), 1, atol=1e-3)
    a, b, c = vectors(["a man is playing a guitar", "somebody plays the guitar", "the stock market fell"])
    assert a[MANY:] @ b[MANY:] > 0.7 > 0.2 > a[MANY:] @ c[MANY:]


# --- a radio cut


def told(interviews: Interviews, themes_: set[str]) -> tuple[list[radio_cut.Sentence], np.ndarray, list[int]]:
    keep = [i for i, t in enumerate(interviews.theme) if t in themes_]
    number = {t: n for n, t in enumerate(sorted(themes_))}
    middle = {t: interviews.rows[[i for i in keep if interviews.theme[i] == t]].mean(0) for t in themes_}
    rows = []
    for i in sorted(keep, key=lambda i: (interviews.said[i].recording, interviews.said[i].start)):
        s, t = interviews.said[i], interviews.theme[i]
        m = middle[t] / np.linalg.norm(middle[t])
        rows.append(
            (i, radio_cut.Sentence(s, number[t], float(interviews.rows[i] @ m), s.start - 4_800, s.end + 4_800))
        )
    return [r for _, r in rows], interviews.rows[[i for i, _ in rows]], [i for i, _ in rows]


def test_a_radio_cut_keeps_to_its_length_and_tells_nothing_twice(interviews: Interviews) -> None:
    """Ten random targets: within 5 %, whole sentences, none twice nor told again, every speaker brought in by one
    that stands alone."""
    rng = random.Random(17)
    names = sorted(set(interviews.theme))
    for _ in range(10):
        some = set(rng.sample(names, rng.randint(3, 8)))
        rows, meant, index = told(interviews, some)
        place = {i: k for k, i in enumerate(index)}
        pairs = [(place[a], place[b]) for a, b in interviews.same if a in place and b in place]
        target = rng.randint(20, 120) * 48_000
        order = rng.choice(["theme", "time"])
        chosen = radio_cut.proposal(rows, meant, target, range(len(some)), pairs, order=order)  # type: ignore[arg-type]
        assert abs(sum(c.bite.length for c in chosen) - target) <= 0.05 * target
        used = [i for c in chosen for i in range(c.bite.first, c.bite.last)]
        assert len(used) == len(set(used)) and not any(a in used and b in used for a, b in pairs)
        heard: set[str] = set()
        for c in chosen:
            first, last = rows[c.bite.first], rows[c.bite.last - 1]
            assert (c.bite.start, c.bite.end) == (first.before, last.after) and c.why
            assert c.bite.alone or first.said.speaker in heard
            heard.add(first.said.speaker)
        if order == "theme":
            alone = [c.theme for c in chosen if c.bite.alone]
            assert alone == sorted(alone)
        else:
            assert all(a.bite.first < b.bite.first or not b.bite.alone for a, b in pairwise(chosen))


def test_a_radio_cut_follows_what_was_judged(interviews: Interviews) -> None:
    rows, meant, _ = told(interviews, {"flood", "leaving", "yard"})
    with pytest.raises(radio_cut.TooLittle, match=r"can be told in whole sentences.*600 s were asked for"):
        radio_cut.proposal(rows, meant, 600 * 48_000, [0, 1, 2])
    with pytest.raises(radio_cut.TooLittle, match="0 s can be told"):
        radio_cut.proposal([], meant[:0], 48_000 * 10, [0])
    dropped = [
        radio_cut.Sentence(s.said, s.theme, s.near, s.before, s.after, "drop" if s.theme == 0 else "") for s in rows
    ]
    assert all(c.theme != 0 for c in radio_cut.proposal(dropped, meant, 40 * 48_000, [0, 1, 2]))
    kept = [
        radio_cut.Sentence(s.said, s.theme, s.near, s.before, s.after, "keep" if n % 9 == 0 else "")
        for n, s in enumerate(rows)
    ]
    cut = radio_cut.proposal(kept, meant, 30 * 48_000, [0, 1, 2])
    assert any("kept in the log" in c.why for c in cut)
    for a, b in [(0, 11), (3, 30)]:
        picked = radio_cut.proposal(rows, meant, 40 * 48_000, [0, 1, 2], [(a, b)], {(a, b): b})
        assert a not in [i for c in picked for i in range(c.bite.first, c.bite.last)]
    uncut = [radio_cut.Sentence(s.said, s.theme, s.near, None, s.after) for s in rows]
    assert radio_cut.bites(uncut) == []  # no pause, no cut
    assert radio_cut.alone("The river came up the road.") and not radio_cut.alone("And then it went.")


# --- through the whole application


def talk(interviews: Interviews, who: str, theme: str, gap: int = 19_200) -> list[Word]:
    """A made transcript: the words of somebody about something, sentences apart by `gap` samples."""
    out, at = [], 24_000
    for s, t in zip(interviews.said, interviews.theme, strict=True):
        if s.speaker == who and t == theme:
            for w in s.text.split():
                out.append(Word(w, at, at + 9_600, who))
                at += 12_000
            at += gap
    return out


@pytest.fixture(scope="session")
def meant_folder(pytestconfig: pytest.Config, prepared: Path, interviews: Interviews) -> Path:
    """Two recordings in which two people talk of two things; what is said is worked out. To be copied, not changed."""

    def make(d: Path) -> None:
        shutil.copytree(prepared, d / "making")
        data = DataFolder(d / "making")
        r = {x.name: x for x in recordings.of_project(data.db, 1)}
        flood, leaving = talk(interviews, "Ines", "flood"), talk(interviews, "Ines", "leaving")
        shift = flood[-1].end + 5 * 48_000
        rest = [Word(w.text, w.start + shift, w.end + shift, w.speaker) for w in leaving]
        transcripts.set_words(data.db, r["talk"].id, [*flood, *rest])
        transcripts.set_words(data.db, r["fifty"].id, talk(interviews, "Karl", "flood"))
        finish_words(data)
        data.db.close()
        shutil.copytree(d / "making", d / "data", ignore=shutil.ignore_patterns("*-wal", "*-shm", "lock"))

    return once(pytestconfig, "meant-project", make) / "data"


@pytest.fixture
def coded(meant_folder: Path, tmp_path: Path) -> Coded:
    """A copy of one's own."""
    shutil.copytree(meant_folder, tmp_path / "data")
    data = DataFolder(tmp_path / "data")
    return data, {r.name: r for r in recordings.of_project(data.db, 1)}


@pytest.fixture
def project(coded: Coded) -> Coded:
    return coded


def finish_words(data: DataFolder) -> None:
    assert sentence_meaning.work_out(data, 1) is not None
    finish(data)
    assert sentence_meaning.work_out(data, 1) is None and sentence_meaning.meant(data, 1).lacking == 0
    assert not list((data.root / "meanings").iterdir())


def test_search_themes_and_a_proposal_in_the_application(
    project: Coded, room: TestClient, interviews: Interviews
) -> None:
    data, r = project
    near = room.get("/p/1/search/meaning", params={"q": "waiting on top of a building to be rescued"}).text
    assert "We sat on the roof for eleven hours" in near and "Nearby in meaning" in near
    french = room.get("/p/1/search/meaning", params={"q": "attendre les secours sur le toit"}).text
    assert "We sat on the roof" in french
    assert 'hx-get="/p/1/search/meaning"' in room.get("/p/1/search", params={"q": "roof"}).text
    assert room.get("/p/1/search/meaning", params={"q": "x" * 600}).status_code == 422
    page = room.get("/p/1/log/themes").text
    assert "Group what is said" in page
    with pytest.raises(LookupError):
        theme_rows.get(data.db, 1, 9)
    room.post("/p/1/log/themes/group")
    rows = theming.listing(data, 1)
    flood = next(t for t in rows if any("roof for eleven hours" in x.statement.text for x in t.shown))
    assert any(x.statement.recording == r["fifty"].id for t in rows for x in t.shown) and len(rows) >= 2
    assert "Called The flood" in said(room.post(f"/p/1/log/themes/{flood.id}/name", data={"name": "The flood"}))
    page = room.get("/p/1/log/themes").text
    assert "The flood" in page and page.count("theme-block") == sum(len(t.shown) for t in rows)
    clip = subclips.add(data.db, r["talk"].id, 10, 90, name="kept")
    assert clip and next(t for t in theming.listing(data, 1) if t.name == "The flood").kept > 0
    block = re.search(r'"recording": (\d+), "start": (\d+)', page)
    assert block
    detail = room.get("/p/1/log/themes/statement", params={"recording": block[1], "start": block[2]}).text
    assert "More like this" in detail and "a theme of its own" in detail
    assert room.get("/p/1/log/themes/statement", params={"recording": block[1], "start": 5}).status_code == 422
    before = stories.load(data.db, 1)
    told_ = said(room.post("/p/1/log/propose", data={"length": "20s", "order": "time"}))
    assert "beside your stories. Nothing else was changed" in told_
    assert stories.load(data.db, 1) == before and stories.current(data.db, 1) == 1
    (sid, _, why), *_ = stories.proposed(data.db, 1)
    new = stories.load(data.db, sid)
    assert (
        abs(new.story.length - 500) <= 25
        and len(why) == len(new.story.pieces)
        and stories.not_taken(data.db, sid) == []
    )
    words = {i: transcripts.words(data.db, i) for i in (r["talk"].id, r["fifty"].id)}
    rate = new.story.rate
    for p in new.story.pieces:
        for edge in (p.start, p.end):
            at = rate.frame_to_sample(edge)
            assert not any(w.start < at < w.end for w in words[p.source or 0])
    assert history.undo(data.db, sid)[0].story.length == 0 and not stories.load(data.db, sid).can_undo
    assert "Open it in the" in room.get("/p/1/log/themes").text
    for bad in ({"length": "2s"}, {"length": "soon"}, {"length": "9h"}):
        assert room.post("/p/1/log/propose", data=bad).status_code == 422


def test_what_the_editor_changed_of_themes_stays_and_is_undone(
    project: Coded, room: TestClient, interviews: Interviews
) -> None:
    data, r = project
    theming.group(data, 1)

    def now() -> list[tuple[str, bool, list[tuple[int, int]]]]:
        return [
            (t.name, t.aside, [(x.statement.recording, x.statement.start) for x in t.shown])
            for t in theming.listing(data, 1)
        ]

    first = theming.listing(data, 1)
    kept = now()
    ids = [t.id for t in first]
    states = [kept]

    def undone_by(change: Callable[[], object]) -> None:
        change()
        states.append(now())
        assert states[-1] != states[-2]

    undone_by(lambda: theme_rows.rename(data.db, 1, ids[0], "Mine"))
    undone_by(lambda: theme_rows.merge(data.db, 1, ids[:2]))
    undone_by(lambda: theming.split(data, 1, ids[0]))
    undone_by(lambda: theme_rows.set_aside(data.db, 1, [t.id for t in theming.listing(data, 1)[:2]]))
    x = theming.listing(data, 1)[0].shown[0].statement
    undone_by(lambda: theme_rows.move(data.db, 1, x.recording, x.start, None))
    for want in reversed(states[:-1]):
        assert "Undone" in said(room.post("/p/1/log/themes/undo"))
        assert now() == want
    for want in states[1:]:
        steps.undo_or_redo(data.db, 1, redo=True)
        assert now() == want
    named = theming.listing(data, 1)
    mine = {
        t.id: {(x.statement.recording, x.statement.start) for x in t.shown}
        for t in named
        if t.name in ("Mine", "new theme")
    }
    assert len(mine) == 2
    theming.group(data, 1)  # anew: what was named, joined or moved stays
    anew = {t.id: {(x.statement.recording, x.statement.start) for x in t.shown} for t in theming.listing(data, 1)}
    assert all(rows <= anew[i] for i, rows in mine.items())
    steps.undo_or_redo(data.db, 1)
    assert now() == states[-1]  # all of it taken back in one step
    transcripts.set_words(data.db, r["boat"].id, talk(interviews, "Rosa", "flood"))  # a new transcript
    finish_words(data)
    shown = theming.listing(data, 1)
    assert any(s.statement.recording == r["boat"].id for t in shown for s in t.shown)
    assert {"Mine", "new theme"} <= {t.name for t in shown}
    said_ = transcripts.words(data.db, r["boat"].id)
    transcripts.change_words(
        data.db, r["boat"].id, 0, said_[:1], [Word("Our", said_[0].start, said_[0].end, "Rosa")], "corrected"
    )
    assert any(s.statement.text.startswith("Our kitchen") for t in theming.listing(data, 1) for s in t.shown)
    for bad in (lambda: theme_rows.merge(data.db, 1, [ids[0]]), lambda: theme_rows.rename(data.db, 1, ids[0], " ")):
        with pytest.raises(Invalid):
            bad()
    assert (
        room.post("/p/1/log/themes/split").status_code == 422 and room.post("/p/1/log/themes/aside").status_code == 422
    )
    other = projects.create(data.db, "Other")
    assert room.post(f"/p/{other.id}/log/themes/{ids[0]}/name", data={"name": "x"}).status_code == 404


def test_what_was_told_twice_is_judged_and_goes_along(project: Coded, room: TestClient, tmp_path: Path) -> None:
    data, _ = project
    (pair, *_) = theming.told_twice(data, 1)
    assert {pair.a.speaker, pair.b.speaker} == {"Ines", "Karl"} and "four" in pair.a.text and "four" in pair.b.text
    page = room.get("/p/1/log/themes/twice").text
    assert page.count("The better one") >= 2 and "words a minute" in page and "not the same" in page
    key = {
        "a_recording": pair.a.recording,
        "a_start": pair.a.start,
        "b_recording": pair.b.recording,
        "b_start": pair.b.start,
    }
    assert "Kept." in said(room.post("/p/1/log/themes/judge", data={**key, "better": "b"}))
    assert theming.told_twice(data, 1)[0].better == "b"
    assert proposing.alternates(data, 1, pair.a.recording, pair.a.start, pair.a.end) == [pair.b]
    theming.group(data, 1)
    theme_rows.rename(data.db, 1, theming.listing(data, 1)[0].id, "Water")
    write(data, tmp_path / "film.zip")
    there = DataFolder(tmp_path / "elsewhere")
    got = archiving.read(there, tmp_path / "film.zip")
    assert [t.name for t in theme_rows.listing(there.db, got.project)] == [
        t.name for t in theme_rows.listing(data.db, 1)
    ]
    assert [j.better for j in theme_rows.judged(there.db, got.project)] == ["b"]
    assert len(theme_rows.placed(there.db, got.project)) == len(theme_rows.placed(data.db, 1))
    steps.undo_or_redo(there.db, got.project)  # undo of a theme's name goes along
    assert "Water" not in [t.name for t in theme_rows.listing(there.db, got.project)]
    assert "Taken back" in said(room.post("/p/1/log/themes/judge", data={**key, "better": "b"}))
    room.post("/p/1/log/themes/judge", data={**key, "better": "apart"})
    assert pair.a not in [t.a for t in theming.told_twice(data, 1)]
    assert room.post("/p/1/log/themes/judge", data={**key, "better": "z"}).status_code == 422
    other = projects.create(data.db, "Other")
    assert room.post(f"/p/{other.id}/log/themes/judge", data={**key, "better": "a"}).status_code == 404


def test_the_story_offers_the_other_telling_and_shots_by_meaning(project: Coded, room: TestClient) -> None:
    data, r = project
    (pair, *_) = theming.told_twice(data, 1)
    rate = projects.get(data.db, 1).rate
    a, b = rate.sample_to_frame(pair.a.start), rate.sample_to_frame(pair.a.end) + 1
    stories.edit(data.db, 1, None, "add_at_end", {"source": pair.a.recording, "start": a, "length": b - a})
    (offer,) = room.get("/p/1/story/tellings", params={"at": 5}).json()
    assert offer["command"] == "replace_piece" and pair.b.text[:40] in offer["name"]
    new = stories.edit(data.db, 1, None, offer["command"], offer["params"])[0].story.pieces[0]
    assert new.source == pair.b.recording
    assert rate.frame_to_sample(new.start) <= pair.b.start and rate.frame_to_sample(new.end) >= pair.b.end
    assert pair.a.text[:40] in room.get("/p/1/story/tellings", params={"at": 0}).json()[0]["name"]  # and back
    boat = r["boat"].id
    subclips.add(data.db, boat, 0, 80, name="rowing boat passes a house under water", note="flooded street")
    subclips.add(data.db, boat, 90, 170, name="a quiet kitchen garden", tags="tomatoes")
    seen: dict[int, str] = {}
    sentence_meaning.keep_up(data, seen)
    finish(data)
    near = sentence_meaning.shots_near(data, 1, [pair.a])
    assert near[boat, 0] > 0.2 > near[boat, 90]
    assert sentence_meaning.shots_near(data, 1, []) == {}


def test_another_model_is_set_or_refused(project: Coded, room: TestClient, tmp_path: Path) -> None:
    data, r = project
    sentence = sentence_meaning.meant(data, 1).said[0]
    clock = projects.get(data.db, 1).rate
    like = room.get(
        "/p/1/search/like", params={"recording": r["talk"].id, "frame": clock.sample_to_frame(sentence.start) + 1}
    )
    assert "More like this" in like.text and sentence.text not in like.text
    assert room.get("/p/1/search/like", params={"recording": r["boat"].id, "frame": 0}).status_code == 422
    for folder, why in (("/none", "There is no model.safetensors"), (str(tmp_path), "There is no model.safetensors")):
        assert why in said(room.post("/p/1/log/themes/model", data={"folder": folder}))
    theirs = english_folder()
    assert theirs
    for name in ("model.safetensors", "tokenizer.json"):
        (tmp_path / name).symlink_to(theirs / name)
    (tmp_path / "config.json").write_text('{"hidden_size": 100}')
    assert "gives 100 numbers" in said(room.post("/p/1/log/themes/model", data={"folder": str(tmp_path)}))
    assert sentence_meaning.meant(data, 1).lacking == 0
    (tmp_path / "config.json").write_text((theirs / "config.json").read_text())
    assert "worked out anew" in said(room.post("/p/1/log/themes/model", data={"folder": str(tmp_path)}))
    (job, *_) = jobs.of_project(data.db, 1, "meaning")
    assert job.params["model"] == str(tmp_path) and sentence_meaning.meant(data, 1).lacking == len(
        sentence_meaning.meant(data, 1).said
    )
    assert np.allclose(vectors([sentence.text], str(tmp_path)), vectors([sentence.text]))  # it is the same one


def test_two_cameras_of_one_moment_say_it_once(project: Coded) -> None:
    data, r = project
    words = transcripts.words(data.db, r["talk"].id)
    transcripts.set_words(
        data.db, r["fifty"].id, [Word(f"{w.text}s", w.start + 9_600, w.end + 9_600, w.speaker) for w in words[:60]]
    )
    assert len({s.recording for s in sentence_meaning.meant(data, 1).said}) == 2
    recordings.set_sync(
        data.db, [(r["talk"].id, Sync(1, 0), 1.0, "sound"), (r["fifty"].id, Sync(1, -9_600), 1.0, "sound")]
    )
    assert {s.recording for s in sentence_meaning.meant(data, 1).said} == {
        r["talk"].id
    }  # at once, though no word was changed
    recordings.set_sync(data.db, [(r["fifty"].id, None, 0.0, "")])
    assert len({s.recording for s in sentence_meaning.meant(data, 1).said}) == 2


def test_it_is_asked_on_the_command_line(project: Coded) -> None:
    data, _ = project

    def kovel(*args: str, ok: bool = True) -> str:
        got = CliRunner().invoke(main, [*args, "--data", str(data.root)])
        assert (got.exit_code == 0) is ok, got.output
        return got.output

    hits = json.loads(kovel("search", "--meaning", "not being honest in the mail", "--json"))["hits"]
    assert any("lied in each of those letters" in h["text"] for h in hits[:5])
    assert set(hits[0]) >= {"recording", "start", "end", "text", "how", "score"} and hits[0]["recording"] == "talk"
    scores = [h["score"] for h in json.loads(kovel("search", "--meaning", "roof", "--json"))["hits"]]
    assert scores == sorted(scores, reverse=True)
    assert json.loads(kovel("search", "--meaning", "roof", "--json"))["hits"][0]["how"] == "word"
    assert "not for both" in kovel("search", "roof", "--meaning", "x", ok=False) and "Say what" in kovel(
        "search", ok=False
    )
    found = json.loads(kovel("themes", "--json"))["themes"]
    assert found and sum(len(t["statements"]) for t in found) >= 3 and all(t["said"] > 0 for t in found)
    assert json.loads(kovel("themes", "--twice", "--json"))["pairs"]
    done = json.loads(
        kovel("propose", "--length", "15s", "--theme", str(found[0]["id"]), "--theme", found[1]["name"], "--json")
    )
    assert abs(done["seconds"] - 15) <= 0.75 and done["why"]
    for bad in (("--length", "never"), ("--length", "15s", "--theme", "nothing"), ("--length", "3h")):
        kovel("propose", *bad, ok=False)


def test_words_bring_their_meaning_by_themselves(interviews: Interviews, project: Coded) -> None:
    data, r = project
    seen: dict[int, str] = {}
    sentence_meaning.keep_up(data, seen)
    assert [j.state for j in jobs.of_project(data.db, 1, "meaning")] == ["done"]  # nothing new is said
    transcripts.set_words(data.db, r["boat"].id, talk(interviews, "Karl", "yard"))
    sentence_meaning.keep_up(data, seen)
    sentence_meaning.keep_up(data, seen)
    job, _ = jobs.of_project(data.db, 1, "meaning")
    assert job.state == "waiting" and sentence_meaning.work_out(data, 1) == job
    jobs.end(data.db, job.id, "cancelled")
    projects.set_archived(data.db, 1, True)
    transcripts.set_words(data.db, r["fifty"].id, talk(interviews, "Karl", "sea"))
    sentence_meaning.keep_up(data, seen)
    assert len(jobs.of_project(data.db, 1, "meaning")) == 2  # a project that was put away waits


def test_cameras_that_nobody_synced_tell_nothing_twice() -> None:
    """The same words at one distance are one moment; the same words told again, or at any distance, are not."""
    texts = [f"this is sentence number {n} of it" for n in range(5)]
    one = [Said(1, 480_000 * n, 480_000 * n + 96_000, "A", text) for n, text in enumerate(texts)]
    camera = [replace(s, recording=2, start=s.start - 336_000, end=s.end - 336_000) for s in one[1:]]
    later = [replace(s, recording=3, start=s.start + 200_000 * n, end=s.end + 200_000 * n) for n, s in enumerate(one)]
    other = Said(2, 9_000_000, 9_096_000, "A", "only this camera heard that")
    assert sentence_meaning.heard_once([*one, *camera, other, *later], {}) == [*one, other, *later]
    assert sentence_meaning.heard_once([*one, *camera[:2]], {}) == [*one, *camera[:2]]  # two alike may be chance
