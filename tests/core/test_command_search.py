"""The command list: what is typed means the edit of that name and the value after it, and nothing that nobody named
is ever done."""

from kovel.core.story.catalogue import entries
from kovel.core.story.command_search import Hit, Match, Named, searched
from kovel.core.time.rate import Rate
from tests.core.stories import SOURCES, do, three

ROWS = [(name, Named(e.label, e.typed, e.also)) for name, e in entries()]
R = Rate(25)


def found(typed: str, **fits: bool) -> list[tuple[str, str, Hit]]:
    """(label, value, hit) of what is meant; `fits`: labels that (do not) fit what is selected."""
    names = [Named(n.label, n.typed, n.also, fits.get(n.label.split(":")[0].replace(" ", "_"), True)) for _, n in ROWS]
    return [(names[h.number].label, h.value, h) for h in searched(names, typed, R)]


def test_the_values_that_went_elsewhere() -> None:
    """Each of these ran an edit nobody asked for: a space of 3 s, a trim, a fade of the film's end, a card called
    "card: ..."."""
    for typed, label, value in (
        ("length 3s", "Length of what is chosen: LENGTH", "3s"),
        ("j-cut 12", "J-cut: sound LENGTH earlier", "12"),
        ("Fade out 80f", "Fade out: LENGTH", "80f"),
        ("fade out at the end 2s", "Fade out at the end: LENGTH", "2s"),
        ("Title card: two hours later", "Title card: TEXT", "two hours later"),
        ("dissolve 12", "Dissolve: LENGTH", "12"),
        ("space 2s", "Space: LENGTH", "2s"),
        ("level -6 dB", "Level: DECIBELS", "-6 dB"),
        ("punch in 130 %", "Punch in: PERCENT", "130 %"),
        ("lower third Maren / FERRYWOMAN", "Lower third: NAME / ROLE", "Maren / FERRYWOMAN"),
        ("split", "Split", ""),
        ("roll the seam to", "Roll the seam to the playhead", ""),  # not rolling credits that say "the seam to"
    ):
        first = found(typed)[0]
        assert first[:2] == (label, value) and first[2].runs, (typed, found(typed)[:3])


def test_a_value_that_cannot_be_is_no_value() -> None:
    assert not [x for x in found("dissolve tomorrow") if x[2].runs] and not [x for x in found("split 12") if x[2].runs]


def test_exact_names_then_what_fits_then_other_words() -> None:
    rows = found("fade out")
    assert [x[2].match for x in rows] == sorted(x[2].match for x in rows) and rows[0][2].match is Match.EXACT
    piece_first = found("speed 200", Speed_of_the_cover=False)
    cover_first = found("speed 200", Speed_of_the_piece=False)
    assert piece_first[0][0].startswith("Speed of the piece") and cover_first[0][0].startswith("Speed of the cover")
    assert found("", Split=False)[-1][0] == "Split"


def test_words_of_the_trade_find_edits_and_never_run_them() -> None:
    for word, label in (
        ("trim", "In edge of the piece"),
        ("volume", "Level:"),
        ("crop", "Zoom"),
        ("brighten", "Brightness"),
        ("freeze", "Hold the frame"),
        ("ripple", "Take out, close up"),
        ("extract", "Take out, close up"),
        ("duplicate", "Repeat the piece"),
        ("see-through", "Opacity of"),
        ("delete", "Take out, close up"),
        ("razor", "Split"),
        ("rotate", "Turn"),
        ("reverse", "Piece backwards"),
        ("pan", "Balance"),
    ):
        rows = found(word)
        assert any(x[0].startswith(label) for x in rows), (word, rows[:3])
        assert not any(x[2].runs for x in rows if x[2].match >= Match.ALSO)
    assert all(h.match is Match.NEAR and not h.runs for _, _, h in found("dissolfe")) and not found("qqqq")


def test_a_locked_lane_is_not_cut_by_a_range_edit() -> None:
    s = do(do(three(), "lay_cover", source=3, at=20, until=90, start=0), "set_lock", lane="cover 1", locked=True)
    for a, b in ((40, 60), (10, 30), (80, 95), (10, 100)):
        t = do(s, "extract", a=a, b=b)
        (c,) = t.covers
        assert (c.start, c.length, c.lane) == (0, 70, 1) and not t.loose, (a, b)
        lifted = do(s, "lift", a=a, b=b)
        assert (lifted.covers[0].start, lifted.covers[0].length) == (0, 70)
    unlocked = do(s, "set_lock", lane="cover 1", locked=False)
    assert do(unlocked, "extract", a=40, b=60).covers[0].length == 50
    sound = (
        do(do(three(), "lay_sound", source=5, at=20, until=90, start=0), "set_lock", lane="sounds", locked=True)
        if 5 in SOURCES and SOURCES[5].sound
        else None
    )
    if sound is not None:
        assert do(sound, "extract", a=40, b=60).sounds[0].length == 70


def test_a_length_is_given_to_all_that_is_chosen() -> None:
    s = three()
    t = do(s, "set_lengths", items=[p.id for p in s.pieces], length=30)
    assert [p.length for p in t.pieces] == [30] * len(s.pieces) and [p.start for p in t.pieces] == [
        p.start for p in s.pieces
    ]
    assert do(s, "set_lengths", items=[s.pieces[0].id], length=12).pieces[0].length == 12
