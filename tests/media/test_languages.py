"""Words of other languages: the language found by itself, the words, and where they stand. Recorded voices
(tests/recorded.py)."""

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from kovel.core.sound.pauses import VOICE, speech
from kovel.core.words.align import clips
from kovel.core.words.writing import plain
from kovel.media.models import of_many
from kovel.media.transcribe import ear_for, transcribe_sound
from tests.media.test_hearing import errors, levels_of
from tests.recorded import Ears, talk


@pytest.fixture(scope="module")
def models(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("models")


@pytest.mark.parametrize("code", ["fr", "es"])
def test_other_languages_are_found_heard_and_placed(code: str, models: Path) -> None:
    """Asked: 90 % of the edges at known gaps within 150 ms in a quiet room. Word errors: under 40 %, for telephone
    prompts of a word or two among them."""
    said = talk(50, 11, code)
    x = said.sound["room"]
    levels = levels_of(x)
    ear = ear_for(Ears(x), clips(speech(levels)), models=models)
    assert ear.language.code == code and Path(ear.model).parent == models
    heard = transcribe_sound(Ears(x), levels, ear)
    words = [w for w in heard.words if w.text != VOICE]
    assert not heard.remark and all(a.end <= b.start for a, b in pairwise(words))
    starts, ends = (np.array([getattr(w, k) for w in words]) / 48 for k in ("start", "end"))
    off = [e for p in said.prompts for e in (np.abs(starts - p.start * 1000).min(), np.abs(ends - p.end * 1000).min())]
    assert np.percentile(off, 90) <= 150 and np.median(off) <= 30, (np.median(off), np.percentile(off, 90))
    want = [plain(w) for p in said.prompts for w in p.text.split() if plain(w)]
    assert errors(want, [plain(w.text) for w in words]) < 0.4 * len(want)  # figures for numbers count as errors


def test_the_model_of_many_languages_is_put_together_once_and_whole(models: Path) -> None:
    """Where its halves were left by a process that was killed, it is put together anew; a second asks for nothing."""
    folder = of_many(models)
    before = (folder / "model.bin").stat()
    assert before.st_size == 145_217_532 and {p.name for p in folder.iterdir()} == {  # as its packages say
        "config.json",
        "model.bin",
        "tokenizer.json",
        "vocabulary.txt",
    }
    assert of_many(models) == folder and (folder / "model.bin").stat().st_mtime_ns == before.st_mtime_ns
    assert not list(models.glob("*.part"))
