"""Pauses and words against recorded speech with known gaps (source: tests/recorded.py), and against reference
programs."""

import io
import json
import re
import wave
from pathlib import Path

import av
import numpy as np
import pytest
from pydub import AudioSegment, silence

from kovel.core.sound.band_level import LevelMaker
from kovel.core.sound.levels import RATE, Levels, local_floor, stretch_to_ticks
from kovel.core.sound.pauses import VOICE, Settings, noise_floor, pauses, speech
from kovel.core.words.transcript import Word
from kovel.media.listen import WINDOW, speech_probability
from kovel.media.models import of_english, recogniser
from kovel.media.transcribe import transcribe_sound
from tests.recorded import SR, Ears, Talk, score, street, talk

FOOTAGE = Path(__file__).parents[2] / "src" / "kovel" / "demo" / "footage"
# asked by the job: F1 at least, 90 % of edges within ms, speech lost at most
ASKED = {
    "silent": (0.965, 30, 0.015),
    "room": (0.965, 30, 0.015),
    "fan": (0.935, 100, 0.025),
    "drift": (0.945, 100, 0.025),
    "street": (0.945, 120, 0.02),
}


def levels_of(x: np.ndarray) -> Levels:
    maker = LevelMaker()
    for a in range(0, len(x), 7777):  # block sizes must not matter
        maker.feed(x[a : a + 7777])
    level = maker.finish()
    heard = (
        stretch_to_ticks(speech_probability(x), len(level)) if len(x) >= WINDOW else np.zeros(len(level), np.float32)
    )
    return Levels(heard, level, local_floor(level))


@pytest.fixture(scope="module")
def said() -> Talk:
    return talk(400)


def silencedetect(x: np.ndarray, threshold: float, n: int) -> np.ndarray:
    """libav's silencedetect filter: ticks it takes for speech."""
    g = av.filter.Graph()
    src = g.add_abuffer(sample_rate=SR, format="s16", layout="mono", time_base="1/16000")
    f = g.add("silencedetect", f"n={threshold}dB:d=0.3")
    sink = g.add("abuffersink")
    src.link_to(f)
    f.link_to(sink)
    g.configure()
    marks: list[tuple[str, float]] = []

    def pull() -> None:
        while True:
            try:
                frame = g.pull()
            except (av.BlockingIOError, av.EOFError, BlockingIOError):
                return
            marks.extend(
                (k.rsplit("_", 1)[1], float(v)) for k, v in frame.metadata.items() if k.endswith(("start", "end"))
            )

    block = (x * 32767).astype(np.int16)
    for a in range(0, len(block), 1600):
        frame = av.AudioFrame.from_ndarray(block[None, a : a + 1600], format="s16", layout="mono")
        frame.sample_rate, frame.pts = SR, a
        g.push(frame)
        pull()
    out = np.ones(n, bool)
    start = None
    for what, t in marks:
        if what == "start":
            start = max(0, round(t * 100))
        elif start is not None:
            out[start : round(t * 100)] = False
            start = None
    if start is not None:
        out[start:] = False
    return out


def pydub_finds(x: np.ndarray, threshold: float, n: int) -> np.ndarray:
    seg = AudioSegment((x * 32767).astype("<i2").tobytes(), frame_rate=SR, sample_width=2, channels=1)
    out = np.ones(n, bool)
    for a, b in silence.detect_silence(seg, min_silence_len=300, silence_thresh=threshold, seek_step=10):
        out[a // 10 : b // 10] = False
    return out


@pytest.mark.parametrize("room", list(ASKED))
def test_pauses(said: Talk, room: str) -> None:
    """As asked in each room, and no worse than two common silence finders, each with the best of its thresholds."""
    x = (
        said.sound[room]
        if room != "street"
        else np.clip(said.sound["silent"] + street(len(said.sound["silent"])), -1, 1)
    )
    found = speech(levels_of(x))
    s = score(found, said.talking)
    f1, edges, lost = ASKED[room]
    assert s.f1 >= f1 and s.edges_90 <= edges and s.lost <= lost, s
    n = len(said.talking)
    others = [score(silencedetect(x, t, n), said.talking).f1 for t in (-50, -45, -40, -35, -30)]
    others += [score(pydub_finds(x, t, n), said.talking).f1 for t in (-50, -40, -30)]
    assert s.f1 >= max(others), (s, others)


def test_settings_do_what_they_say(said: Talk) -> None:
    heard = levels_of(said.sound["room"])
    assert abs(noise_floor(heard) + 60 + 3.2) < 1.5  # white noise at -60 dBFS over 8 kHz, 200-4000 Hz of it: -3.2 dB
    long = pauses(heard, Settings(shortest=1.0))
    every = pauses(heard, Settings(shortest=0.3))
    assert len(long) < len(every) and all(p.end - p.start >= 47_500 for p in long) and set(long) <= set(every)
    for p in every:
        cut = p.cut(Settings(before=0.1, after=0.2))
        assert cut is None or (cut[0] - p.start, p.end - cut[1]) == (9600, 4800)
        assert 0 <= p.sure <= 1 and p.depth >= 0
    quiet = pauses(heard, Settings(threshold=-70))
    loud = pauses(heard, Settings(threshold=-20))
    spent = lambda rows: sum(p.end - p.start for p in rows)  # noqa: E731
    assert spent(quiet) < spent(every) < spent(loud)
    p = max(every, key=lambda p: p.end - p.start)  # a word the recogniser heard there is never cut into
    middle = (p.start + p.end) // 2
    around = pauses(heard, Settings(), [Word("oh", middle - 4800, middle + 4800)])
    assert not any(q.start < middle < q.end for q in around) and any(q.end == middle - 4800 for q in around)
    marked = pauses(heard, Settings(), [Word(VOICE, middle - 4800, middle + 4800)])
    assert p in marked


def test_odd_sounds_have_clear_answers() -> None:
    rng = np.random.default_rng(1)
    second = np.arange(SR * 4) / SR
    for x in (
        np.zeros(0, np.float32),
        np.zeros(1, np.float32),
        np.zeros(SR * 4, np.float32),
        (rng.standard_normal(SR * 4) * 0.1).astype(np.float32),
        np.full(SR * 4, 0.5, np.float32),
        np.clip(3 * np.sin(2 * np.pi * 200 * second), -1, 1).astype(np.float32),
    ):
        heard = levels_of(x)
        found = pauses(heard, Settings())
        assert len(heard) == len(x) // 160 and all(0 <= p.start < p.end <= len(heard) * 480 for p in found)
        assert np.isfinite(heard.level).all() and -90 <= noise_floor(heard) <= 6
        if len(x) == SR * 4:
            assert sum(p.end - p.start for p in found) >= 0.9 * 4 * 48_000  # none of it is speech


NUMBERS = {
    "0": "zero",
    "1": "one",
    "2": "two",
    "3": "three",
    "4": "four",
    "5": "five",
    "6": "six",
    "7": "seven",
    "8": "eight",
    "9": "nine",
}


def plain(text: str) -> list[str]:
    text = re.sub(r"\d", lambda m: f" {NUMBERS[m[0]]} ", text.lower().replace("-", " "))
    return [w for w in re.sub(r"[^a-z ]", "", text.replace("'", "")).split() if w not in ("um", "uh")]


def errors(want: list[str], got: list[str]) -> int:
    """Word errors: substitutions, insertions and deletions (edit distance)."""
    row = list(range(len(got) + 1))
    for i, w in enumerate(want, 1):
        new = [i]
        for j, g in enumerate(got, 1):
            new.append(min(row[j] + 1, new[-1] + 1, row[j - 1] + (w != g)))
        row = new
    return row[-1]


@pytest.mark.parametrize(("room", "seconds", "median", "ninety"), [("room", 60, 30, 100), ("fan", 80, 30, 125)])
def test_words(said: Talk, room: str, seconds: int, median: float, ninety: float) -> None:
    """Word errors no worse than the recogniser alone with its own settings; edges of the prompts found in the words
    (under the fan 90 % lie within 99 ms over this set and three others)."""
    x = said.sound[room][: SR * seconds]
    prompts = [p for p in said.prompts if p.end < seconds - 1]
    heard = levels_of(x)
    ours = transcribe_sound(Ears(x), heard).words
    alone, _ = recogniser(str(of_english())).transcribe(x, word_timestamps=True)
    theirs = [Word(w.word, int(w.start * 48000), int(w.end * 48000)) for s in alone for w in s.words or ()]
    wrong = {"ours": 0, "theirs": 0}
    off: list[float] = []
    for p in prompts:
        for who, rows in (("ours", ours), ("theirs", theirs)):
            near = [w for w in rows if p.start - 0.15 <= (w.start + w.end) / 96_000 <= p.end + 0.15 and w.text != VOICE]
            wrong[who] += errors(plain(p.text), plain(" ".join(w.text for w in near)))
            if who == "ours" and near:
                off += [abs(near[0].start / 48 - p.start * 1000), abs(near[-1].end / 48 - p.end * 1000)]
    assert wrong["ours"] <= wrong["theirs"], wrong
    assert np.median(off) <= median and np.percentile(off, 90) <= ninety, (np.median(off), np.percentile(off, 90))
    talking = speech(heard)
    for w, after in zip(ours, [*ours[1:], None], strict=True):
        assert after is None or w.end <= after.start
        if w.end - w.start > 2 * 480 and w.text != VOICE:  # neither edge in proven silence
            assert talking[w.start // 480] and talking[min(len(talking) - 1, (w.end - 1) // 480)], w


def test_fillers_and_false_starts_survive() -> None:
    """Every "um" of the demo's interviews and every sentence begun twice is there, as a word or as a voiced sound.

    Known times: the sidecars written when the footage was made.
    """
    hit = total = 0
    for name in ("maren-a", "odile"):
        with av.open(str(FOOTAGE / f"{name}.mp4")) as c:
            r = av.AudioResampler("s16", "mono", RATE)
            x = (
                np.concatenate([g.to_ndarray()[0] for f in c.decode(audio=0) for g in r.resample(f)]).astype(np.float32)
                / 32768
            )
        ours = transcribe_sound(Ears(x), levels_of(x), names=["Maren", "ferry"]).words
        known = json.loads((FOOTAGE / f"{name}.json").read_text())["words"]
        text = [re.sub(r"[^a-z]", "", w["text"].lower()) for w in known]
        wanted = [w for w, t in zip(known, text, strict=True) if t in ("um", "uh")]
        wanted += [known[i] for i in range(3, len(text)) if text[i - 3 : i] in (text[i : i + 3], text[i + 1 : i + 4])]
        for w in wanted:
            total += 1
            hit += any(
                min(o.end / 48000, w["end"]) - max(o.start / 48000, w["start"]) > 0.4 * (w["end"] - w["start"])
                for o in ours
            )
    assert total >= 5 and hit >= 0.8 * total, (hit, total)


def test_no_word_of_the_demo_is_cut() -> None:
    """At the default settings no word of any interview is lost to a pause (times: the footage's sidecars).

    With the words there, as in the application. And by the sound alone nothing is cut that stands 10 dB over the room
    for 60 ms (but for the interviewer, who sits far from the microphone).
    """
    for name in ("maren-a", "maren-b", "tobin", "odile"):
        with av.open(str(FOOTAGE / f"{name}.mp4")) as c:
            r = av.AudioResampler("s16", "mono", RATE)
            x = (
                np.concatenate([g.to_ndarray()[0] for f in c.decode(audio=0) for g in r.resample(f)]).astype(np.float32)
                / 32768
            )
        s, heard = Settings(), levels_of(x)
        rows = json.loads((FOOTAGE / f"{name}.json").read_text())["words"]
        words = [Word(w["text"], round(w["start"] * 48000), round(w["end"] * 48000), w["speaker"]) for w in rows]
        cuts = [c for p in pauses(heard, s, words) if (c := p.cut(s))]
        assert len(cuts) >= 6
        for w in words:
            assert sum(max(0, min(w.end, d) - max(w.start, c)) for c, d in cuts) < 0.35 * (w.end - w.start), (name, w)
        for p in pauses(heard, s):
            cut = p.cut(s)
            if cut and not any(w.speaker == "interviewer" and w.start < cut[1] and cut[0] < w.end for w in words):
                i, j = cut[0] // 480, cut[1] // 480
                clear = heard.level[i:j] > heard.floor[i:j] + 10
                assert not any(clear[k : k + 6].all() for k in range(max(0, j - i - 6))), (name, p)


def as_wav(x: np.ndarray, rate: int = SR) -> bytes:
    out = io.BytesIO()
    with wave.open(out, "wb") as w:
        w.setnchannels(1)
        w.setsampwidth(2)
        w.setframerate(rate)
        w.writeframes((np.clip(x, -1, 1) * 32767).astype("<i2").tobytes())
    return out.getvalue()
