"""The catalogue of edits: what is declared beside a function fits it, and pages, keys and command line know no other
edits."""

import html
import re
from pathlib import Path

import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.story.catalogue import COMMANDS, about, entries, offered, parameters
from kovel.core.story.edit_offers import TAKEN_FROM, WANTING, entry, meant
from kovel.core.time.rate import Rate
from kovel.web.glossary import OURS, TRADE
from kovel.web.keys import NAMES, SHEETS, STORY, Key, of_edits, sheet
from tests.core.stories import EMPTY, do, three

WEB = Path(__file__).parents[1] / "src" / "kovel" / "web"
SCRIPTS = WEB / "static" / "js"
ALWAYS = {
    "typed",
    "minus typed",
    "playhead",
    "story end",
    "first piece",
    "lane",
    "marks",
    "marks back",
    "lay",
    "lay gap",
}  # never wanting
POINTS = {"at", "until", "start", "end", "source"}


def test_every_offer_fits_its_edit() -> None:
    for name, e in offered(three()):
        known = parameters(name)
        given = set(e.params) - {"points"} | (POINTS if "points" in e.params else set())
        assert given <= set(known) | POINTS, (name, e.label)
        if not str(e.params.get("points")).startswith("lay"):  # laid by what the editor has in hand, in the page
            assert {k for k, (_, d) in known.items() if d is ...} <= given, (name, e.label)
        takes_typed = {"typed", "minus typed"} & {v for v in e.params.values() if isinstance(v, str)}
        assert bool(e.typed) == bool(takes_typed), (name, e.label)
    by_label = {e.label: meant(e, Rate(25)) for _, e in offered(three())}
    assert (
        by_label["Dissolve: LENGTH"] == 12
        and by_label["Black card: LENGTH"] == 75
        and by_label["Title card: TEXT"] == "Title"
    )
    assert by_label["Level: DECIBELS"] == -6 and by_label["Length of what is chosen: LENGTH"] is None
    assert by_label["Target length of the story: MINUTES"] == 0 and by_label["Slip the piece: LENGTH"] == 1
    with pytest.raises(ValueError, match="cannot be taken from 'thin air'"):
        entry("Wrong", piece="thin air")
    assert set(TAKEN_FROM) == set(WANTING) | ALWAYS
    lanes = [
        e.label
        for n, e in offered(do(three(), "lay_cover", source=3, at=10, until=40, start=0, lane=2))
        if n == "set_muted"
    ]
    assert "Mute cover 2" in lanes and "Mute cover 2" not in [e.label for _, e in offered(EMPTY)]


def test_scripts_know_no_edit_and_no_source_of_their_own() -> None:
    text = "\n".join(file.read_text() for file in [*SCRIPTS.glob("*.js"), *WEB.glob("rooms/*/scripts/*.js")])
    named = set(re.findall(r'(?:edit|wide)\("(\w+)"', text)) | set(re.findall(r'command: "(\w+)"', text))
    assert named and named <= set(COMMANDS), named - set(COMMANDS)
    read = set(re.findall(r'case "([^"]+)":', (SCRIPTS / "edits.js").read_text()))
    assert read == set(TAKEN_FROM) - {"typed", "minus typed", "lane", "marks", "marks back", "lay", "lay gap"}
    keys = {k for r in of_edits() for k in r.keys}
    assert {"X", "S", "B", "N", "W", "C", "D", "Y", "R", "M"} <= keys and "E" not in keys


def test_the_command_line_lists_every_edit() -> None:
    told = CliRunner().invoke(main, ["story", "edits"]).output
    for name in COMMANDS:
        assert re.search(rf"^{name}\b", told, re.M) and about(name) in told and len(about(name)) > 15, name


def test_no_key_of_the_room_is_an_edits() -> None:
    """An edit's key comes first in the Story: a key of the room that is one would never be heard."""
    edits = {e.key for _, e in entries() if e.key}
    own = {chord for row in STORY for chord in row.acts}
    assert len(own) > 40 and not own & edits


ROOM_OF = {"whole_log": "log", "shots": "log", "themes": "log", "hits": "tighten"}


@pytest.mark.parametrize("name", SHEETS)
def test_each_act_of_a_key_is_given_by_a_script_of_its_room(name: str) -> None:
    room = WEB / "rooms" / ROOM_OF.get(name, name or "footage") / "scripts"
    text = "\n".join(file.read_text() for file in [*room.glob("*.js"), *SCRIPTS.glob("*.js")])
    given = set(re.findall(r"^\s+(?:\.\.\.)?(\w+)(?=[:,(])", text, re.M)) | set(
        re.findall(r"[{,] (\w+)(?=[:,} ])", text)
    )
    made = {f"tab_{n}" for n in range(1, 7)} | {
        f"move_{far}{way}" for far in ("", "far_") for way in ("left", "right", "up", "down")
    }
    assert set(SHEETS[name].acts.values()) <= given | made


def test_a_chord_stands_once_on_a_sheet() -> None:
    with pytest.raises(ValueError, match="Ctrl Z is both undo and copy"):
        sheet(Key("Ctrl Z", "undo", {"Ctrl Z": "undo"}), Key("Ctrl Z", "copy", {"Ctrl Z": "copy"}))


def test_one_sheet_has_every_key_and_word(room: TestClient) -> None:
    """Read as a page: each row of every sheet once, each word with its meaning."""
    text = " ".join(html.unescape(re.sub(r"<[^>]+>", " ", room.get("/help").text)).split())
    for name, key_sheet in SHEETS.items():
        assert not name or NAMES[name] in text
        for row in key_sheet.rows:
            assert row.does in text, (name, row)
    assert all(f"{term.word} : {term.meaning}" in text for term in (*OURS, *TRADE))
    assert 'href="/help"' in room.get("/p/1/story").text
