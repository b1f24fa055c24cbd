"""Words and sound brought together: texts without times, clips of speech, sound read in blocks, the first pass.

Source of the speech: tests/recorded.py. Spoken numbers: common usage, from memory.
"""

import json
import threading
import time
from pathlib import Path

import av
import numpy as np
import pytest
from scipy.signal import resample_poly

from kovel.core.sound.levels import Levels
from kovel.core.sound.pauses import VOICE, nearest_pause, pauses, speech
from kovel.core.words.align import Clip, clips, snap, sounds, spoken
from kovel.core.words.fillers import voiced_between
from kovel.core.words.transcript import Word, with_speakers
from kovel.demo.project import FOOTAGE
from kovel.media import listen as listening
from kovel.media import transcribe
from kovel.media.listen import BLOCK, Sound16, listen, sound24
from kovel.media.transcribe import align_text
from tests.made import whole_sound
from tests.media.test_hearing import levels_of
from tests.recorded import SR, score, talk


def write_pcm(folder: Path, x: np.ndarray) -> np.ndarray:
    """A sound.pcm of 16 kHz sound; the 48 kHz samples it holds."""
    y = (np.clip(resample_poly(x, 3, 1), -1, 1) * 32767).astype("<i2")
    (folder / "sound.pcm").write_bytes(y.tobytes())
    return y


def test_what_has_come_is_listened_to_while_its_sound_is_made(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Levels grow with the sound, the detector's word for what was heard stays, and the end is as if heard in one
    go."""
    monkeypatch.setattr(listening, "PART", 16 * 2560 * 4)  # ten seconds
    y = write_pcm(tmp_path, talk(45).sound["room"])
    listen(str(tmp_path), 1, lambda x: None)
    want = Levels.from_array(np.load(tmp_path / "levels.npy"))
    grown = tmp_path / "grown"
    grown.mkdir()
    (grown / "begun.json").write_text('{"channels": 1}')
    seen: list[Levels] = []

    def made(path: str, out: str, *_: object) -> dict[str, int]:
        with (grown / "sound.pcm").open("wb") as f:
            for part in np.array_split(y, 4):
                f.write(part.tobytes())
                f.flush()
                until = time.monotonic() + 60
                due = f.tell() // 2 // 3 // listening.PART * listening.PART
                while due + SR < f.tell() // 6 and (not seen or len(seen[-1]) * 160 < due):
                    assert time.monotonic() < until
                    time.sleep(0.05)
                    if (grown / "levels.npy").exists():
                        seen.append(Levels.from_array(np.load(grown / "levels.npy")))
        return {"samples": len(y), "channels": 1}

    monkeypatch.setattr(listening, "make_sound", made)
    listening.make_heard_sound("x", str(grown), [25, 1], False, None, lambda x: None)
    assert len(seen) > 2 and not any(x.heard for x in seen) and all((x.speech[:-1] >= 0).all() for x in seen)
    heard: list[int] = []
    detector = listening.speech_probability
    monkeypatch.setattr(listening, "speech_probability", lambda x: (heard.append(len(x)), detector(x))[1])
    whole_sound(grown)
    listen(str(grown), 1, lambda x: None)
    got = Levels.from_array(np.load(grown / "levels.npy"))
    assert got.heard and len(got) == len(want) and sum(heard) < len(y) / 3 / 2  # most was heard before
    assert np.array_equal(got.level, want.level) and np.abs(got.speech - want.speech).max() < 0.01
    assert np.abs(seen[-1].floor[:-2000] - want.floor[: len(seen[-1]) - 2000]).max(initial=0) < 0.1


def test_hits_of_what_has_come_are_there_before_its_sound_is_whole(tmp_path: Path) -> None:
    x = np.random.default_rng(3).standard_normal(SR * 125).astype(np.float32) * 0.001
    thuds = [20, 61, 100, 123]
    for t in thuds:
        x[t * SR : t * SR + 800] += (
            np.random.default_rng(t).standard_normal(800).astype(np.float32) * 0.5 * np.exp(-np.arange(800) / 150)
        )
    y = write_pcm(tmp_path, x)
    (tmp_path / "sound.pcm").write_bytes(y[: 48_000 * 122].tobytes())  # so much has come
    ended = threading.Thread(target=listening.pulse, args=(str(tmp_path), 1, lambda x: None))
    ended.start()
    until = time.monotonic() + 60
    while not (tmp_path / "pulse.json").exists():
        assert time.monotonic() < until
        time.sleep(0.05)
    first = json.loads((tmp_path / "pulse.json").read_text())["hits"]
    with (tmp_path / "sound.pcm").open("ab") as f:  # it only ever grows
        f.write(y[48_000 * 122 :].tobytes())
    whole_sound(tmp_path)
    ended.join()
    last = json.loads((tmp_path / "pulse.json").read_text())["hits"]
    near = lambda rows: [round(r[0] / 48_000, 1) for r in rows if r[1] > 0.5]  # noqa: E731
    assert near(first) == [20.0, 61.0, 100.0] and near(last) == [20.0, 61.0, 100.0, 123.0]


def test_a_text_without_times_is_put_to_the_sound(tmp_path: Path) -> None:
    """Every word stays, in order, with its speaker; the prompts' edges within what transcription itself is asked
    for."""
    said = talk(60)
    write_pcm(tmp_path, said.sound["room"])
    texts = [p.text.split() for p in said.prompts]
    words = [w for t in texts for w in t]
    who = [("Ann", "Ben")[i % 2] for i, t in enumerate(texts) for _ in t]
    seen: list[float] = []
    got = align_text(str(tmp_path), 1, words, who, seen.append)
    assert [r[0] for r in got["words"]] == words and [r[4] for r in got["words"]] == who and got["remark"] == ""
    assert seen == sorted(seen) and seen[-1] <= 1
    starts = [r[1] for r in got["words"]]
    assert starts == sorted(starts) and all(r[2] > r[1] for r in got["words"])
    at, off = 0, []
    for p, t in zip(said.prompts, texts, strict=True):
        off += [
            abs(got["words"][at][1] / 48 - p.start * 1000),
            abs(got["words"][at + len(t) - 1][2] / 48 - p.end * 1000),
        ]
        at += len(t)
    assert np.median(off) <= 30 and np.percentile(off, 80) <= 110, np.sort(off)
    other = align_text(
        str(tmp_path),
        1,
        ["nothing", "of", "this", "was", "ever", "uttered", "by", "anyone", "here"],
        [""] * 9,
        seen.append,
    )
    assert "Few words of the text" in other["remark"] and len(other["words"]) == 9
    write_pcm(tmp_path, np.zeros(SR * 5))
    (tmp_path / "levels.npy").unlink()
    assert align_text(str(tmp_path), 1, ["word"], [""], seen.append)["words"] == []


def test_a_part_of_what_is_said_stands_beside_its_anchors(tmp_path: Path) -> None:
    """A text shorter than the recording, numbers in words, an "um" left out: no word strays (times: the footage's
    sidecar)."""
    with av.open(str(FOOTAGE / "maren-a.mp4")) as c:
        r = av.AudioResampler("s16", "mono", SR)
        x = (
            np.concatenate([g.to_ndarray()[0] for f in c.decode(audio=0) for g in r.resample(f)]).astype(np.float32)
            / 32768
        )
    write_pcm(tmp_path, x[: SR * 32])
    known = json.loads((FOOTAGE / "maren-a.json").read_text())["words"]
    want = [w for w in known if w["end"] < 12 and w["text"].strip(",.") not in ("um", "Well")]
    second = next(i for i in range(len(want)) if want[i]["text"] == "The")  # the sentence begun anew
    want = [*want[: second - 5], *want[second:]]
    got = align_text(str(tmp_path), 1, [w["text"] for w in want], [""] * len(want), lambda x: None)["words"]
    assert [g[0] for g in got] == [w["text"] for w in want] and "twenty" in [g[0] for g in got]
    off = [abs(g[1] / 48000 - w["start"]) for g, w in zip(got, want, strict=True)]
    assert max(off) < 0.5 and np.median(off) < 0.1, [(g[0], round(o, 2)) for g, o in zip(got, off, strict=True)]


def test_sound_is_the_same_in_whatever_blocks_it_is_read(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    low = np.cumsum(rng.standard_normal(SR * 130)) % 2 - 1  # reaches over two blocks of a minute
    y = write_pcm(tmp_path, low.astype(np.float32) * 0.3)
    sound = Sound16(tmp_path / "sound.pcm", 1)
    whole = sound.read(0, len(sound))
    parts = np.concatenate([sound.read(a, min(len(sound), a + 7001)) for a in range(0, len(sound), 7001)])
    assert len(whole) == len(y) // 3 and np.abs(whole - parts).max() < 1e-5
    assert np.abs(sound.read(-50, 50)[:40]).max() == 0 and len(sound.read(len(sound) - 10, len(sound) + 90)) == 100
    x = sound24(tmp_path, 1)
    want = resample_poly(y.astype(np.float32) / 32768, 1, 2)
    edge = BLOCK // 2
    assert len(x) == len(want) and np.abs(x[edge - 500 : edge + 500] - want[edge - 500 : edge + 500]).max() < 1e-4


def test_a_first_pass_is_usable_and_blocks_join(tmp_path: Path) -> None:
    """Before the detector has listened the level alone finds pauses; blocks of five minutes join without a trace."""
    said = talk(400)
    x = said.sound["room"]
    heard = levels_of(x)
    first = Levels(np.full_like(heard.speech, -1), heard.level, heard.floor)
    assert not first.heard and score(speech(first), said.talking).f1 > 0.9
    write_pcm(tmp_path, x)
    steps: list[float] = []
    listen(str(tmp_path), 1, steps.append)
    kept = Levels.from_array(np.load(tmp_path / "levels.npy"))
    assert kept.heard and steps == sorted(steps) and abs(len(kept) - len(heard)) <= 1
    s = score(speech(kept), said.talking)
    assert s.f1 >= 0.965 and s.lost <= 0.015
    near = slice(29_900, 30_100)  # around the five minutes
    assert np.abs(kept.speech[near] - heard.speech[near]).mean() < 0.05


def test_clips_hold_all_speech_and_lead_back() -> None:
    rng = np.random.default_rng(5)
    talking = np.zeros(60_000, bool)
    at = 300
    while at < 58_000:
        n = int(rng.integers(20, 900))
        talking[at : at + n] = True
        at += n + int(rng.integers(15, 600))
    talking[50_000:56_000] = True  # a minute without a breath
    found = clips(talking)
    inside = np.zeros(60_000, bool)
    for c in found:
        assert c.length <= 2800
        for a, b in c.parts:
            assert not inside[a:b].any()
            inside[a:b] = True
        ticks = [c.on_recording(t) for t in range(c.length)]
        assert (
            ticks == [t for a, b in c.parts for t in range(a, b)]
            and c.on_recording(c.length, end=True) == c.parts[-1][1]
        )
        left, right = c.halves()
        assert left.length + right.length == c.length and max(left.length, right.length) <= 2 * c.length / 3 + 900
        assert {t for h in (left, right) for a, b in h.parts for t in range(a, b)} == set(ticks)
    assert inside[talking].all() and clips(np.zeros(100, bool)) == []


def test_what_the_recogniser_skips_is_heard_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """A recogniser that says one word of whatever is longer than 8 s: each word of a clip is there all the same,
    once."""
    asked: list[int] = []

    def says(sounds_of: list[np.ndarray], model: str, names: tuple = ()) -> list[list[Word]]:
        out = []
        for x in sounds_of:  # a word each second, its number in the sound's level
            asked.append(len(x) // SR)
            said = [
                Word(f"w{round(float(x[i]) * 1000)}", i * 3, i * 3 + 20_000) for i in range(0, len(x) - SR // 2, SR)
            ]
            out.append(said[-1:] if len(x) > 8 * SR else said)
        return out

    class Numbered:
        def read(self, a: int, b: int) -> np.ndarray:
            return (np.arange(a, b) // SR / 1000).astype(np.float32)

    monkeypatch.setattr(transcribe, "recognise", says)
    rows = transcribe.recognise_clips(Numbered(), [Clip(((0, 3200),)), Clip(((3200, 3800),))], "")
    assert [w.text for _, _, said in rows for w in said] == [f"w{i}" for i in range(38)]
    assert asked == [32, 6, 16, 16, 8, 8, 8, 8]


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ("162,", "one hundred sixty two"),
        ("1,204", "one thousand two hundred four"),
        ("007", "zero zero seven"),
        ("don’t", "don't"),
        ("50%", "fifty percent"),
        ("pre-pend", "pre pend"),
        ("…", ""),
        ("911911911", "nine one one " * 3),
    ],
)
def test_words_are_spelled_as_spoken(written: str, said: str) -> None:
    assert spoken(written) == said.split()
    assert all(sounds(w) for w in spoken(written)) and sounds("42") == ""


def test_edges_leave_silence() -> None:
    """Ticks of 10 ms; speech in 100-200 and 260-300."""
    talking = np.zeros(400, bool)
    talking[100:200] = talking[260:300] = True

    def at(*spans: tuple[int, int]) -> list[tuple[int, int]]:
        return [(w.start // 480, w.end // 480) for w in snap([Word("w", a * 480, b * 480) for a, b in spans], talking)]

    assert at((90, 150), (150, 210)) == [(100, 150), (150, 200)]  # out of the silence on both sides
    assert at((115, 150), (150, 185), (270, 295)) == [(100, 150), (150, 200), (260, 300)]  # the stretch's own edges
    assert at((150, 275)) == [(150, 200)] and at((190, 290)) == [(260, 300)]  # over a pause: in the longer part
    assert at((120, 190), (205, 250)) == [(100, 200), (260, 262)]  # all of it in the gap: to the next stretch
    assert at((120, 190), (370, 390)) == [(100, 200), (260, 300)]  # long after the last one: in it, and alone there
    assert len(at((262, 300), (380, 390))) == 1 and len(at()) == 0  # no room there: it was made up
    kept = snap([Word("a", 262 * 480, 300 * 480), Word("b", 380 * 480, 390 * 480)], talking, whole=True)
    assert [w.text for w in kept] == ["a", "b"]
    heard = Levels(
        talking.astype(np.float32), np.where(talking, -20, -70).astype(np.float32), np.full(400, -70, np.float32)
    )
    (v,) = voiced_between(heard, [Word("w", 100 * 480, 202 * 480)])
    assert v.text == VOICE and (v.start // 480, v.end // 480) == (260, 300)
    found = pauses(heard)
    assert [(p.start // 480, p.end // 480) for p in found] == [(0, 100), (200, 260), (300, 400)] and found[
        1
    ].depth == 50
    assert nearest_pause(found, 190 * 480, 30 * 480) == 215 * 480 and nearest_pause(found, 150 * 480, 30 * 480) is None


def test_speakers_outlast_a_new_transcript() -> None:
    old = [Word("a", 0, 100, "Ann"), Word("b", 100, 200, "Ann"), Word("c", 5000, 5100, "Ben")]
    new = [Word("x", 10, 60), Word("y", 210, 300), Word("z", 4000, 4500), Word("q", 9000, 9100)]
    assert [w.speaker for w in with_speakers(new, old)] == ["Ann", "Ann", "Ben", "Ben"]
    assert with_speakers(new, [Word("a", 0, 9)]) == new and with_speakers(new, []) == new
