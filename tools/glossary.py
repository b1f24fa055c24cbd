"""Writes docs/glossary.md from the application's glossary; `--check` fails where it is another."""

import sys
from pathlib import Path

from kovel.web.glossary import as_markdown

FILE = Path(__file__).resolve().parent.parent / "docs" / "glossary.md"

if "--check" not in sys.argv:
    FILE.write_text(as_markdown())
elif FILE.read_text() != as_markdown():
    sys.exit("docs/glossary.md is not what the glossary says: run python tools/glossary.py")
