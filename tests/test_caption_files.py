"""Transcripts in and out. The first example is W3C's own (WebVTT: The Web Video Text Tracks Format, introduction),
from memory."""

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from kovel.core.words.transcript import Word, sentences
from kovel.exchange.caption_files import read_captions, write_srt, write_vtt

W3C = """WEBVTT

NOTE a comment with an arrow in it is no cue

STYLE
::cue { color: lime }

1 - a cue name
00:11.000 --> 00:13.000 align:start position:10%
<v Roger Bingham>We are in New York City

00:13.000 --> 00:16.000
<v Roger Bingham>We&#39;re <i>actually</i> at the Lucern Hotel &amp; bar

00:16.000 --> 00:18.000
<v.loud Neil deGrasse Tyson>Didn't <00:17.000>we <00:17.500>talk
"""


def test_webvtt_as_published() -> None:
    got = read_captions(W3C)
    assert not got.refused and got.words[0] == Word("We", 11 * 48000, got.words[0].end, "Roger Bingham")
    assert [w.text for w in got.words[:6]] == ["We", "are", "in", "New", "York", "City"] and got.words[
        5
    ].end == 13 * 48000
    assert [(w.text, w.start / 48000, w.end / 48000, w.speaker) for w in got.words[-3:]] == [
        ("Didn't", 16, 17, "Neil deGrasse Tyson"),
        ("we", 17, 17.5, "Neil deGrasse Tyson"),
        ("talk", 17.5, 18, "Neil deGrasse Tyson"),
    ]
    assert "actually" in [w.text for w in got.words] and "&" in [w.text for w in got.words]


def test_subrip_with_overlaps_and_bad_times() -> None:
    text = (
        "\ufeff1\r\n00:00:01,000 --> 00:00:03,000\r\nMAREN: one two\r\n\r\n2\r\n00:00:02,500 --> "
        "00:00:04,000\r\nthree\r\n\r\n3\r\n00:00:09,000 --> 00:00:08,000\r\nno\r\n\r\n4\r\n00:61:00,000 --> "
        "01:02:00,000\r\nno\r\n"
    )
    got = read_captions(text)
    assert [w.text for w in got.words] == ["one", "two", "three"] and got.words[0].speaker == "MAREN"
    assert got.words[2].start == 2.5 * 48000 and all(
        a.end <= b.start for a, b in zip(got.words, got.words[1:], strict=False)
    )
    assert got.refused == ((10, "it ends before it begins"), (14, "its times cannot be read"))


def test_cues_that_overlap_stay_whole() -> None:
    """Each cue's words stay together, and where two begin at once, one is after the other; speakers with them."""
    text = (
        "WEBVTT\n\n1:00.000 --> 1:04.000\n<v Ann>we haul the ferry\n\n1:02.000 --> 1:03.000\n<v Ben>do "
        "you\n\n1:02.000 --> 1:05.000\n<v Ann>by hand\n"
    )
    got = read_captions(text).words
    assert " ".join(w.text for w in got) == "we haul the ferry do you by hand"
    assert "".join(w.speaker[0] for w in got) == "AAAABBAA"
    assert all(a.end <= b.start for a, b in pairwise(got)) and got[-1].end <= 65 * 48000
    assert [got[i].start / 48000 for i in (0, 4)] == [60, 62]
    crowd = "WEBVTT\n\n" + "\n".join(f"0:01.{k // 40:03} --> 0:02.000\nword{k} again\n" for k in range(400))
    assert len(read_captions(crowd).words) == 800  # none is lost in a crowd


texts = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), min_size=1, max_size=9).filter(
    lambda t: "-->" not in t and not t.startswith("&")
)


@given(
    st.lists(
        st.tuples(texts, st.integers(30, 900), st.sampled_from([0, 5, 2500]), st.sampled_from(["Maren", "Tobin"])),
        min_size=1,
        max_size=30,
    )
)
def test_webvtt_there_and_back(rows: list[tuple[str, int, int, str]]) -> None:
    t, said = 0, []
    for text, ms, gap, who in rows:
        said.append(Word(text, (t + gap) * 48, (t + gap + ms) * 48, who))
        t += gap + ms
    back = read_captions(write_vtt(said))
    assert not back.refused and [(w.text, w.start, w.speaker) for w in back.words] == [
        (w.text, w.start, w.speaker) for w in said
    ]
    assert sum(s.count for s in sentences(said)) == len(said) and write_srt(said).count("-->") == len(sentences(said))


def test_entities_are_decoded_once() -> None:
    """HTML's rules, which WebVTT takes over: `&amp;lt;` is the text `&lt;`; numbers count as well as names."""
    said = read_captions(
        "WEBVTT\n\n00:01.000 --> 00:03.000\n&amp;lt;b&amp;gt; it&#39;s caf&eacute; &#x26; &lrm;rope\n"
    ).words
    assert [w.text for w in said] == ["&lt;b&gt;", "it's", "café", "&", "rope"]
    assert [w.text for w in read_captions(write_vtt(list(said))).words] == [w.text for w in said]
