"""Start page, Footage and Log in the browser: what HTTP tests cannot see."""

import re
from collections.abc import Callable
from pathlib import Path

from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.store import projects, recordings, stories, subclips, transcripts
from tests.browser.seen import until


def test_projects_are_made_changed_and_brought_back(
    page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path
) -> None:
    data, _ = coded
    server = serve(data.root, tmp_path)
    page.goto(server.url)
    page.get_by_role("button", name="Make project").click()  # the browser itself asks for a name
    assert page.url.rstrip("/") == server.url and len(projects.listing(data.db)) == 1
    page.get_by_label("Name", exact=True).fill("\U0001f6a3" * 100)
    page.get_by_role("button", name="Make project").click()
    expect(page.locator("#report.bad")).to_contain_text("100 characters")
    page.get_by_label("Name", exact=True).fill("Second")
    page.get_by_label("Start timecode").fill("tea")
    page.get_by_role("button", name="Make project").click()
    expect(page.locator("#report.bad")).to_contain_text("not a time")
    page.get_by_text("Rename, duplicate, archive, delete").click()
    page.get_by_label("New name of Coded").fill("First <b>film</b>")
    page.get_by_role("button", name="Rename").click()
    expect(page.get_by_role("link", name="First <b>film</b>")).to_be_visible()
    page.get_by_text("Rename, duplicate, archive, delete").click()
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_text("No project yet")).to_be_visible()
    page.get_by_role("button", name="Bring it back").click()
    expect(page.get_by_role("link", name="First <b>film</b>")).to_be_visible()


def test_footage_by_hand(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    data, _ = coded
    server = serve(data.root, tmp_path)
    names = lambda: [r.name for r in recordings.of_project(data.db, 1)]  # noqa: E731
    page.goto(f"{server.url}/p/1/footage")
    rows = page.locator("tr[data-recording]")
    rows.nth(2).locator("td").nth(7).drag_to(rows.nth(0).locator("td").nth(7))
    expect(page.locator("#report")).to_contain_text("Order changed")
    assert names() == ["boat", "talk", "fifty"]
    held = """held => { // the list asks for itself while recordings are prepared: is the row still the same one?
      const row = document.querySelector("tr[data-recording]"), list = document.getElementById("recordings");
      row.dispatchEvent(new DragEvent(held ? "dragstart" : "dragend", { bubbles: true, dataTransfer: new DataTransfer() }));
      return htmx.ajax("GET", location.href + "/list", { source: list, target: list, swap: "outerHTML" })
        .then(() => new Promise((done) => setTimeout(() => done(row.isConnected), 300))); }"""
    assert page.evaluate(held, True) and not page.evaluate(held, False)
    page.get_by_label("Kind of boat").focus()
    page.keyboard.press("Alt+ArrowDown")
    expect(rows.nth(1).get_by_label("Name", exact=True)).to_have_value("boat")
    assert names() == ["talk", "boat", "fifty"]
    page.get_by_label("Roll of talk").fill("M1")
    page.keyboard.press("Enter")
    expect(page.locator("#report")).to_contain_text("talk changed")
    page.get_by_label("Set fifty aside").check()
    expect(page.locator("tr.aside")).to_have_count(1)
    frames = page.get_by_role("checkbox", name="frames", exact=True)
    frames.click()  # by hand: the field that was clicked has the focus, and the list is shown all the same
    expect(rows).to_have_count(0)
    frames.click()
    expect(rows).to_have_count(3)
    (tmp_path / "diary.mp4").write_text("Dear diary")
    page.evaluate("""async () => { // files dropped anywhere on the room
      const d = new DataTransfer(); d.items.add(new File(['Dear diary, no film'], 'diary.mp4', { type: 'video/mp4' }));
      document.body.dispatchEvent(new DragEvent('drop', { dataTransfer: d, bubbles: true, cancelable: true }));
    }""")
    expect(page.locator("#report.bad")).to_contain_text("diary.mp4 is a text file")
    page.get_by_label("From this machine").fill("/etc/passwd")
    page.keyboard.press("Enter")
    expect(page.locator("#report.bad")).to_contain_text("outside the folders")
    expect(rows).to_have_count(3)
    page.goto(f"{server.url}/p/1/log")
    expect(page.locator(".rail a")).to_have_count(2)  # what is set aside is not logged


def test_marking_in_the_log(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    data, r = coded
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/log?rec={r['talk'].id}")
    until(page, "window.kovel?.marks")
    marks = lambda: page.evaluate("kovel.marks()")  # noqa: E731
    page.keyboard.press("Enter")
    expect(page.locator("#report.bad")).to_contain_text("Set an in and an out point first")
    for key, frame, want in (
        ("i", 200, (200, None)),
        ("o", 260, (200, 260)),
        ("i", 300, (300, 260)),
        ("o", 340, (300, 340)),
    ):
        page.evaluate("f => kovel.player.seek(f)", frame)
        page.keyboard.press(key)
        assert tuple(marks().values()) == want  # an in point past the out point keeps both, and says so
        expect(page.locator("#in-out")).to_have_text(
            "–" if None in want else "Out is before In" if want[0] > want[1] else re.compile("^00:00:0")
        )
    page.keyboard.press("Shift+I")
    assert page.evaluate("kovel.player.frame") == 300
    page.keyboard.press("p")  # in to out, and it stops at the out point
    until(page, "kovel.player.playing")
    until(page, "!kovel.player.playing", seconds=6)
    assert page.evaluate("kovel.player.frame") == 340
    for typed, frame in (("4:10", 110), ("+1:00", 365), ("0.5s", 13)):
        page.evaluate("kovel.player.seek(340)")
        page.locator("#in-tc").fill(typed)
        page.locator("#in-tc").blur()
        until(page, "f => kovel.marks().in === f", arg=frame)
    page.locator("#out-tc").fill("soon")
    page.locator("#out-tc").blur()
    expect(page.locator("#report.bad")).to_contain_text("“soon” is not a time")
    page.evaluate("kovel.player.seek(700)")
    page.keyboard.press("o")
    box = page.locator("#overview").bounding_box()
    assert box
    at = lambda f: box["x"] + box["width"] * f / 1000  # noqa: E731
    page.mouse.move(at(700), box["y"] + 50)
    page.mouse.down()
    page.mouse.move(at(800), box["y"] + 50, steps=5)
    page.mouse.up()
    assert abs(marks()["out"] - 800) <= 1 and marks()["in"] == 13
    page.mouse.click(at(500), box["y"] + 50)
    assert abs(page.evaluate("kovel.player.frame") - 500) <= 1
    page.keyboard.press("n")
    page.keyboard.type("Long one")
    page.keyboard.press("Enter")
    expect(page.locator("[data-clip]")).to_have_count(1)
    assert marks() == {"in": None, "out": None}
    page.locator("#kept-marks button").click()
    assert abs(marks()["out"] - 800) <= 1
    expect(page.locator("#bite-said")).to_have_text("Changing “Long one”")
    page.get_by_label("Verdict on Long one").select_option("drop")
    expect(page.locator("#report")).to_contain_text("changed")
    assert subclips.of_project(data.db, 1)[0].verdict == "drop"
    page.get_by_role("button", name="To the story").click()
    expect(page.locator("#report")).to_contain_text("in the story, at the end")
    page.get_by_label("Remove Long one from the log").click()
    expect(page.locator("[data-clip]")).to_have_count(0)


def test_a_saved_bite_is_changed_and_kept_beside(
    page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path
) -> None:
    """Opened from the list, moved in its loupe, saved by Enter; once more as a bite of its own; what is open and where
    one stood outlast loading the page again. The story it goes to is named, chosen and turned back at the foot."""
    data, r = coded
    bite = subclips.add(data.db, r["talk"].id, 100, 200, name="By hand", note="loud", tags="chain")
    kept = lambda: [(c.name, c.start, c.end, c.note) for c in subclips.of_project(data.db, 1)]  # noqa: E731
    stories.open_story(data.db, 1, stories.create(data.db, 1, "Long version"))
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/log?rec={r['talk'].id}")
    until(page, "window.kovel?.marks")
    page.keyboard.press("ArrowDown")
    expect(page.locator("#bite-said")).to_have_text("Changing “By hand”")
    expect(page.get_by_label("Note", exact=True)).to_have_value("loud")
    page.locator("#loupe-in").focus()
    page.keyboard.press("Shift+ArrowRight")
    page.locator("#loupe-in").blur()
    page.keyboard.press("Enter")
    expect(page.locator("#report")).to_contain_text("Changed “By hand”: in point 5 frames later, 0:03+20 long.")
    assert kept() == [("By hand", 105, 200, "loud")]
    page.evaluate("kovel.player.seek(150)")
    page.keyboard.press("o")
    page.reload()
    until(page, "window.kovel?.marks?.().out === 150")
    expect(page.locator("#bite-said")).to_have_text("Changing “By hand”")
    assert page.evaluate("kovel.player.frame") == 150
    page.keyboard.press("Shift+Enter")
    expect(page.locator("[data-clip]")).to_have_count(2)
    assert kept() == [("By hand", 105, 200, "loud"), ("By hand 2", 105, 150, "loud")]
    expect(page.locator("#bite-said")).to_have_text("New bite")
    page.locator("#kept-marks button").first.click()
    expect(page.locator("#bite-said")).to_have_text("Changing “By hand”")
    page.locator("#in-tc").fill("0:05+00")  # read before it is saved, by the button too
    page.locator("#save-new").click()
    expect(page.locator("[data-clip]")).to_have_count(3)
    assert kept()[-1] == ("By hand 3", 125, 200, "loud") and kept()[0] == ("By hand", 105, 200, "loud")
    page.keyboard.press("Control+z")
    expect(page.locator("[data-clip]")).to_have_count(2)
    page.keyboard.press("ArrowDown")
    expect(page.locator("#bite-said")).to_contain_text("Changing")
    page.keyboard.press("Escape")
    assert page.evaluate("kovel.marks()") == {"in": None, "out": None}
    page.keyboard.press("Control+z")
    expect(page.locator("[data-clip]")).to_have_count(1)
    # over and over, until it is stopped
    page.keyboard.press("ArrowDown")
    page.evaluate("kovel.player.seek(190)")
    page.keyboard.press("i")
    page.keyboard.press("Shift+L")
    until(page, "kovel.player.frame > 194")
    until(page, "kovel.player.frame < 194")
    page.keyboard.press("k")
    assert not page.evaluate("kovel.player.playing")
    # the story at the foot
    foot = page.locator("#open-story")
    expect(foot.locator("option:checked")).to_have_text("Long version")
    page.locator(f"[data-clip='{bite.id}']").get_by_role("button", name="To the story").click()
    expect(foot.get_by_role("button", name="Undo in story")).to_have_attribute(
        "title", re.compile("^Undo in Long version: ")
    )
    assert len(stories.load(data.db, stories.current(data.db, 1)).story.pieces) == 1
    foot.get_by_role("button", name="Undo in story").click()
    expect(page.locator("#report")).to_contain_text("Undone: ")
    assert not stories.load(data.db, stories.current(data.db, 1)).story.pieces
    foot.get_by_role("button", name="Redo in story").click()
    expect(foot.get_by_role("button", name="Redo in story")).to_be_disabled()
    foot.get_by_label("Story").select_option("Story cut")
    expect(foot.locator("option:checked")).to_have_text("Story cut")
    expect(foot.get_by_role("button", name="Undo in story")).to_be_disabled()
    assert stories.current(data.db, 1) == 1


def test_what_is_kept_is_what_the_fields_show(
    page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path
) -> None:
    """In 1:00, out 5:00, out changed to 8:00 and Enter keeps 1:00 to 8:00; what cannot be read stays in its field; a
    bite kept again under its name is asked about."""
    data, r = coded
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/log?rec={r['talk'].id}")
    until(page, "window.kovel?.marks")
    kept = lambda: [(c.name, c.start, c.end) for c in subclips.of_project(data.db, 1)]  # noqa: E731

    def typed(field: str, text: str, key: str = "Tab") -> None:
        page.locator(f"#{field}-tc").fill(text)
        page.keyboard.press(key)

    typed("in", "1:00")
    until(page, "kovel.marks().in === 25")
    typed("out", "5:00")
    until(page, "kovel.marks().out === 125")
    page.get_by_placeholder("Name of the soundbite").fill("Bite")
    typed("out", "8:00", "Enter")
    expect(page.locator("[data-clip]")).to_have_count(1)
    assert kept() == [("Bite", 25, 200)]
    typed("in", "0:02+00", "Enter")  # into an empty field: refused for want of an out point, and nothing is wiped
    expect(page.locator("#report.bad")).to_contain_text("Set an in and an out point first")
    expect(page.locator("#in-tc")).to_have_value("00:00:02:00")
    typed("out", "soon", "Enter")
    expect(page.locator("#report.bad")).to_contain_text("“soon” is not a time")
    expect(page.locator("#out-tc")).to_have_value("soon")
    page.locator("#out-tc").fill("0:12+10")
    expect(page.locator(".understood")).to_have_text("= 0:12+10, 310 frames")
    page.get_by_placeholder("Name of the soundbite").fill("bite")
    asked: list[str] = []
    page.on("dialog", lambda d: (asked.append(d.message), d.accept()))
    page.keyboard.press("Enter")
    expect(page.locator("#report")).to_contain_text("is this range now")
    assert kept() == [("Bite", 50, 310)] and "“bite” is kept already" in asked[0]


def test_nothing_keeps_anybody_out(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    """axe-core finds nothing in any room, by day and by night, with its dialogs and desks open (WCAG 2.2 and its best
    practices)."""
    data, r = coded
    do = lambda name, **v: stories.edit(data.db, 1, None, name, v)  # noqa: E731
    talk, boat = r["talk"].id, r["boat"].id
    subclips.add(data.db, talk, 100, 150, name="One", tags="flood")
    for start in (100, 300):
        do("add_at_end", source=talk, start=start, length=75)
    do("lay_cover", source=boat, at=20, until=60, start=0)
    do("lay_sound", source=boat, at=30, until=90, start=0, kind="natural")
    do("set_heading", piece=1, heading="The river")
    do("insert_card", at=0, length=30, text="The Last Haul")
    transcripts.set_words(data.db, talk, [Word(f"word{i}", 24000 * i, 24000 * i + 20000, "Maren") for i in range(60)])
    server, axe, found = serve(data.root, tmp_path), Axe(), []
    for path, keys in (
        ("", ""),
        ("p/1/footage", ""),
        (f"p/1/log?rec={talk}", "io"),
        (f"p/1/log?rec={boat}", ""),
        ("p/1/log/whole", ""),
        ("p/1/log/whole?view=cards", ""),
        ("p/1/log/whole?view=board", ""),
        ("p/1/log/shots", ""),
        (f"p/1/tighten?rec={talk}", ""),
        (f"p/1/hits?rec={boat}", ""),
        ("p/1/story", ""),
        ("p/1/story", "u"),
        ("p/1/story", "q"),
        ("p/1/story", "?"),
        ("p/1/story", "5"),
        ("p/1/story", "6"),
        ("p/1/story", "f"),
        ("p/1/sound", ""),
        ("p/1/sound", "g"),
        ("p/1/sound", "?"),
        ("p/1/handoff", ""),
    ):
        answer = page.goto(f"{server.url}/{path}")
        assert answer and answer.ok, path  # a room, not the page that says there is none
        for look in ("day", "night"):
            page.evaluate(
                "look => { localStorage.setItem('kovel-look', look); document.documentElement.dataset.theme = look; }",
                look,
            )
            if look == "day":
                page.wait_for_timeout(350)
                for k in keys:
                    page.keyboard.press(k)
                page.wait_for_timeout(350 if keys else 0)
            only = None if look == "day" else {"runOnly": ["color-contrast"]}  # by night the colours alone are others
            for v in axe.run(page, options=only).response["violations"]:
                found.append((path, keys, look, v["id"], v["nodes"][0]["html"][:120]))
    assert not found, "\n".join(map(str, found))
