"""The sheet of all keys and words."""

from dataclasses import dataclass

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse

from kovel.web.glossary import OURS, TRADE, Term
from kovel.web.keys import ANY, NAMES, SHEETS, Key
from kovel.web.pages import page

router = APIRouter()


@dataclass(frozen=True, slots=True)
class KeysOfPage:
    """The keys of one page, under its name."""

    name: str
    rows: tuple[Key, ...]


@dataclass(frozen=True, slots=True)
class Help:
    """What the sheet holds."""

    pages: list[KeysOfPage]  # what all have first
    words: list[tuple[str, tuple[Term, ...]]]


def help_of() -> Help:
    """The keys of every page, those that all have once; and the words."""
    pages = [
        KeysOfPage(NAMES[key], tuple(row for row in sheet.rows if row not in ANY))
        for key, sheet in SHEETS.items()
        if key
    ]
    return Help([KeysOfPage("On every page", ANY), *pages], [("Words of ours", OURS), ("Words of the trade", TRADE)])


@router.get("/help")
def keys_and_words(request: Request) -> HTMLResponse:
    """Every key and every word."""
    return page(request, "help/room.html", help_of())
