"""Captions: every word once, two lines that fit, broken where a phrase ends, none over another; files that others
read."""

import io
import json
import logging
import xml.etree.ElementTree as ET
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import lxml.etree
import pysubs2
import pytest
import ttconv.imsc.reader
import ttconv.srt.writer
import webvtt
from hypothesis import given
from hypothesis import strategies as st

from kovel.core.plan.captioned import with_captions
from kovel.core.plan.plan import make_plan
from kovel.core.time.rate import RATES, Rate
from kovel.core.words.subtitles import CHARS, FAST, LINES, Cue, Said, broken, cues
from kovel.core.words.transcript import Word
from kovel.exchange.caption_formats import chapters_text, chapters_vtt, to_srt, to_ttml, to_vtt
from kovel.services.handoff.captioning import too_fast
from tests.core.stories import SOURCES, R, do, three
from tests.sent import cues_in

SCHEMA = lxml.etree.RelaxNG(lxml.etree.parse(Path(__file__).parent.parent / "data" / "ebu-tt-d.rng"))
texts = st.text(st.characters(categories=["L", "N"]), min_size=1, max_size=12)
ends = st.sampled_from(["", "", "", ",", ".", "?", ";"])


@st.composite
def spoken(draw: st.DrawFn) -> list[Said]:
    out, at = [], draw(st.integers(0, 50))
    for _ in range(draw(st.integers(1, 60))):
        n = draw(st.integers(1, 20))
        who = draw(st.sampled_from(["", "maren", "Tobin"]))
        out.append(Said(at, at + n, Word(draw(texts) + draw(ends), at * 1920, (at + n) * 1920, who), 1))
        at += n + draw(st.sampled_from([0, 0, 0, 1, 5, 40]))
    return out


@given(spoken(), st.sampled_from([26, 37, 42]))
def test_every_word_stands_once_in_lines_that_fit(said: list[Said], chars: int) -> None:
    """37 or 42 letters, two lines (BBC Subtitle Guidelines); never two at one time; no sooner than it is said."""
    rows = cues(said, R, chars=chars)
    assert " ".join(c.text for c in rows).split() == [w for s in said for w in s.word.text.split()]
    for c in rows:
        assert len(c.lines) <= LINES or any(len(w) > chars for w in c.text.split())
        assert all(len(x) <= chars or " " not in x for x in c.lines)
    assert all(a.end <= b.at for a, b in pairwise(rows)) and all(c.at < c.end for c in rows)
    starts = {s.at for s in said}
    assert all(c.at in starts for c in rows)
    assert all(b.at == a.end or b.at - a.end >= 5 for a, b in pairwise(rows))  # no blink between
    by_key = {(s.recording, s.word.start): s for s in said}
    assert all(by_key[c.key].at == c.at for c in rows)


def told(text: str, each: int = 8) -> list[Said]:
    return [
        Said(i * each, (i + 1) * each, Word(w, i * each * 1920, (i + 1) * each * 1920), 1)
        for i, w in enumerate(text.split())
    ]


@pytest.mark.parametrize(
    ("text", "lines"),
    [
        (
            "We haul the ferry across by hand, two of us on the chain, and the tide does the rest.",
            [("We haul the ferry across by hand,", "two of us on the chain,"), ("and the tide does the rest.",)],
        ),
        (
            "Once for a person, twice for a cart, and three times for the doctor.",
            [("Once for a person, twice for a cart,", "and three times for the doctor.")],
        ),
        ("Yes. We did.", [("Yes. We did.",)]),
        (
            "She was the only one who could hear the bell when the fog lay on the river at night.",
            [("She was the only one who could", "hear the bell when the fog lay"), ("on the river at night.",)],
        ),
    ],
)
def test_lines_end_where_a_phrase_does(text: str, lines: list[tuple[str, ...]]) -> None:
    """At natural points, no article parted from its noun (BBC Subtitle Guidelines, line breaks); read line by line."""
    got = [c.lines for c in cues(told(text), R)]
    assert got == lines
    assert not any(x.split()[-1].lower() in ("the", "a", "of", "to") for c in got for x in c)


def test_names_typed_texts_and_what_is_hard_to_read() -> None:
    said = told("We haul it. We do.", 10)
    said = [
        Said(s.at, s.end, Word(s.word.text, s.word.start, s.word.end, "maren" if i < 3 else "Tobin"), 1)
        for i, s in enumerate(said)
    ]
    assert [c.text for c in cues(said, R, names=True)] == ["MAREN: We haul it.", "TOBIN: We do."]
    changed = cues(
        said, R, edits={(1, 0): ("We haul it.", "We pull it\nacross."), (1, 30 * 1920): ("Other words.", "Gone")}
    )
    assert [(c.lines, c.edited) for c in changed] == [(("We pull it", "across."), True), (("We do.",), False)]
    fast = Cue(0, 50, ("one two three four five six seven",))
    assert fast.pace(R) == 210 > FAST and "210 words a minute" in too_fast(fast, R)
    assert too_fast(Cue(0, 100, ("one two three",)), R) == ""
    assert "3 lines" in too_fast(Cue(0, 900, ("a", "b", "c")), R) and "a line of 50" in too_fast(
        Cue(0, 900, ("x" * 50,)), R
    )


rows_of = st.lists(st.tuples(st.integers(0, 90_000), st.integers(1, 200), texts, texts), min_size=1, max_size=8)


@given(rows_of, st.sampled_from(RATES))
def test_files_are_read_by_others_and_by_us(rows: list[tuple[int, int, str, str]], rate: Rate) -> None:
    """webvtt-py and pysubs2 find the same texts at the same milliseconds; read back they stand on the same frames."""
    made, at = [], 0
    for gap, length, a, b in rows:
        made.append(Cue(at + gap, at + gap + length, (a, f"{b} & <{b}>"), "Maren"))
        at += gap + length
    vtt, srt = to_vtt(made, rate), to_srt(made, rate)
    ms = [tuple(round(Fraction(t * 1000) / rate.fps) for t in (c.at, c.end)) for c in made]
    theirs = webvtt.from_buffer(io.StringIO(vtt))
    assert [x.text.replace("&amp;", "&").replace("&lt;", "<").replace("&gt;", ">") for x in theirs] == [
        "\n".join(c.lines) for c in made
    ]
    assert [(x.start, x.end) for x in theirs] == [
        tuple(f"{t // 3600000:02d}:{t // 60000 % 60:02d}:{t // 1000 % 60:02d}.{t % 1000:03d}" for t in x) for x in ms
    ]
    subs = pysubs2.SSAFile.from_string(srt)
    assert [(e.start, e.end) for e in subs] == ms
    for text in (vtt, srt):
        back, bad = cues_in(text, rate)
        assert not bad and [(c.at, c.end) for c in back] == [(c.at, c.end) for c in made]
    assert [c.lines for c in cues_in(vtt, rate)[0]] == [c.lines for c in made]


def test_ebu_tt_d_is_read_by_another(caplog: pytest.LogCaptureFixture) -> None:
    """The package ttconv reads it as IMSC and EBU-TT-D without a remark, and writes the same times and texts as
    SubRip."""
    made = [Cue(25, 75, ("Wind & <tide>", "second")), Cue(80, 110, ("ψ שלום",)), Cue(110, 140, ("“last”",))]
    with caplog.at_level(logging.WARNING):
        theirs = ttconv.srt.writer.from_model(
            ttconv.imsc.reader.to_model(ET.ElementTree(ET.fromstring(to_ttml(made, R))))
        )
    assert not caplog.records
    back, bad = cues_in(theirs.replace("&", "&amp;"), R)
    assert not bad and [(c.at, c.end) for c in back] == [(c.at, c.end) for c in made]
    for c in made:
        assert "\n".join(c.lines) in theirs


@given(rows_of, st.sampled_from(RATES))
def test_ebu_tt_d_fits_its_schema(rows: list[tuple[int, int, str, str]], rate: Rate) -> None:
    """EBU Tech 3380 as a RELAX NG schema (tests/data/ebu-tt-d.rng, from memory), which refuses what is no EBU-TT-D."""
    made, at = [], 0
    for gap, length, a, b in rows:
        made.append(Cue(at + gap, at + gap + length, (a, f"{b} & <{b}>")))
        at += gap + length
    text = to_ttml(made, rate, "pt-BR")
    SCHEMA.assertValid(lxml.etree.fromstring(text.encode()))
    for good, bad in (
        ('ttp:timeBase="media"', 'ttp:timeBase="smpte"'),
        ('begin="', 'dur="'),
        ('xml:id="c1" ', ""),
        ('tts:color="#ffffff"', 'tts:color="white"'),
        ('tts:extent="80% 20%"', 'tts:extent="800px 200px"'),
        ("<br/>", "<br>x</br>"),
        ('region="below"', 'region="below" tts:opacity="1"'),
    ):
        assert good in text and not SCHEMA.validate(lxml.etree.fromstring(text.replace(good, bad).encode())), bad


def test_ebu_tt_d_is_well_formed_and_says_what_it_is() -> None:
    """EBU Tech 3380: media time base, cell resolution, regions and styles that are referred to exist; from memory."""
    made = [Cue(25, 75, ("Wind & <tide>", "second")), Cue(75, 110, ("ψ שלום",))]
    root = ET.fromstring(to_ttml(made, R))
    tt, ttp, xml = (
        "{http://www.w3.org/ns/ttml}",
        "{http://www.w3.org/ns/ttml#parameter}",
        "{http://www.w3.org/XML/1998/namespace}",
    )
    assert root.tag == f"{tt}tt" and root.get(f"{ttp}timeBase") == "media" and root.get(f"{xml}lang") == "en"
    known = {x.get(f"{xml}id") for x in root.iter() if x.tag in (f"{tt}style", f"{tt}region")}
    rows = list(root.iter(f"{tt}p"))
    assert [(p.get("begin"), p.get("end")) for p in rows] == [
        ("00:00:01.000", "00:00:03.000"),
        ("00:00:03.000", "00:00:04.400"),
    ]
    assert ["|".join(p.itertext()) for p in rows] == ["Wind & <tide>|second", "ψ שלום"]
    assert {p.get("region") for p in rows} | {x.get("style") for x in root.iter() if x.get("style")} <= known
    assert "urn:ebu:tt:distribution" in to_ttml(made, R)


def test_chapters_as_lines() -> None:
    """Common practice, no source: a line a chapter, whole seconds passed."""
    rows = [(0, "Beginning"), (100, "The flood\nand after"), (25 * 3725, "Since")]
    assert chapters_text(rows, R) == "0:00 Beginning\n0:04 The flood and after\n1:02:05 Since\n"
    assert chapters_text([], R) == ""


def test_chapters_are_read_and_odd_files_refused_line_by_line() -> None:
    text = chapters_vtt([(0, "Beginning"), (100, "The flood --> after")], 250, R)
    read = list(webvtt.from_buffer(io.StringIO(text)))
    assert [(x.start, x.end) for x in read] == [("00:00:00.000", "00:00:04.000"), ("00:00:04.000", "00:00:10.000")]
    back, bad = cues_in(
        "WEBVTT\n\n00:05.000 --> 00:04.000\nno\n\n00:xx.000 --> 00:07.000\nno\n\n1\n00:00:08,000 --> "
        "00:00:09,500\n<i>so</i>\n\n00:10.000 --> 00:11.000\n \n",
        R,
    )
    assert [(c.at, c.end, c.lines) for c in back] == [(200, 238, ("so",))]
    assert [(n, why) for n, why in bad] == [
        (3, "it ends before it begins"),
        (6, "its times cannot be read"),
        (13, "it says nothing"),
    ]


@given(st.lists(st.tuples(st.integers(0, 230), st.integers(1, 60)), max_size=5))
def test_burnt_in_they_are_seen_at_their_frames_and_nothing_else_changes(rows: list[tuple[int, int]]) -> None:
    s = do(three(), "lay_cover", source=4, at=110, until=150, start=20)
    made, t = [], 0
    for a, n in sorted(rows):
        if a >= t:
            made.append(Cue(a, a + n, (f"cue {a}",)))
            t = a + n
    plan = make_plan(s, SOURCES)
    burnt = with_captions(plan, made)
    assert burnt.pictures[-1].end == plan.length and burnt.sounds == plan.sounds
    for t in range(plan.length):
        r, q = burnt.picture_at(t), plan.picture_at(t)
        now = next((c for c in made if c.at <= t < c.end), None)
        below = r.layers[:-1] if now else r.layers
        assert [x.later(t - r.at) for x in below] == [x.later(t - q.at) for x in q.layers]
        title = r.layers[-1].image.title
        assert (dict(title.rows)["text"] if title else None) == (now and now.text)
    json.dumps(burnt.to_json(SOURCES))
    assert broken("a\nb") == ("a", "b") and broken("") == () and max(map(len, broken("word " * 14))) <= CHARS
