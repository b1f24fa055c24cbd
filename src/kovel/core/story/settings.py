"""Settings: what changes how something is seen or heard without changing what is cut. Declared here, once each.

    recording   Maren, camera A               level +2 dB                 in every story of the project
    story       "Web version"                               zoom 105 %
    recording 1 Maren, camera A, in this one                brightness +0.3
    piece       "I went over alone"           level -1 dB                 heard at +1 dB, seen at 105 % and brighter

A family is a frozen dataclass; each annotated field is a setting, and the catalogue is read from them. Only what
differs from the default is kept, beside what it belongs to, so that it goes wherever that goes: through splits,
moves and copies.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from enum import StrEnum
from itertools import pairwise
from re import fullmatch
from typing import Annotated, Any, Literal, cast, get_args, get_type_hints

Line = tuple[tuple[int, float], ...]  # moments on the source's clock (frames) with values, straight between them
Value = int | float | bool | str | Line
MOMENTS = 20_000  # of a line at most
Meets = Literal["replaces", "adds", "follows", "here"]
Kind = Literal[
    "piece", "cover", "title", "sound", "recording", "group", "story"
]  # the last three: only there, on no one thing


LONGEST = 2_000  # letters of a title


def _text(named: str, value: str) -> str | None:
    """A text as it is kept, if it can be one; a `/` between spaces begins a new line of a title."""
    if named == "text":
        lines = value.replace(" / ", "\n").splitlines()
        text = "\n".join(" ".join(text_line.split()) for text_line in lines).strip("\n")
        return text if len(text) <= LONGEST and all(letter.isprintable() or letter == "\n" for letter in text) else None
    if named == "colour":
        return value.lower() if fullmatch("#[0-9a-fA-F]{6}", value) else None
    return value if len(value) <= 80 and value.isprintable() else None


@dataclass(frozen=True, slots=True)
class Setting:
    """What is declared of a setting: `of` says what it applies to, `needs` what the recording must have for it,
    `meets` how a nearer scope meets a wider one (looks follow each other: what the wider one made is changed by the
    nearer; "here": it is said of its own scope alone); `wide` whether it may stand at a wider scope than the one
    thing at all. A text is one of `choices`, or (`named`) the name of something that the project keeps; what is
    `line` "only" is never one number."""

    label: str
    of: tuple[Kind, ...]
    unit: str = ""
    low: float = 0
    high: float = 0
    step: float = 1
    line: bool | Literal["only"] = False
    choices: tuple[str, ...] = ()
    named: Literal["table", "font", "text", "colour", ""] = ""
    needs: Literal["picture", "sound", ""] = ""
    meets: Meets = "replaces"
    wide: bool = True
    name: str = ""
    family: str = ""
    default: Value = 0

    def as_kept(self, value: object) -> Value | None:
        """The value as it is kept (a switch, a whole number, or one rounded to its step); None if it is no such
        value."""
        if isinstance(self.default, bool):
            return value if isinstance(value, bool) else None
        if self.named or isinstance(self.default, str):
            return self._word(value)
        if self.line and isinstance(value, (list, tuple)):
            return self._line(value)
        return None if self.line == "only" else self._number(value)

    def _word(self, value: object) -> Value | None:
        if not isinstance(value, str):
            return None
        if self.named:
            return _text(self.named, value)
        return value if value in self.choices else None

    def _number(self, value: object) -> Value | None:
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not self.low <= value <= self.high:
            return None
        if isinstance(self.default, int):
            return int(value) if value == int(value) else None
        return round(round(value / self.step) * self.step, 6)

    def _line(self, value: Iterable[Any]) -> Line | None:
        line_points = [tuple(line_point) if isinstance(line_point, (list, tuple)) else () for line_point in value]
        good = all(
            len(line_point) == 2 and type(line_point[0]) is int and isinstance(line_point[1], (int, float))
            for line_point in line_points
        )
        if (
            not line_points
            or len(line_points) > MOMENTS
            or not good
            or any(point_before[0] >= right[0] for point_before, right in pairwise(line_points))
        ):
            return None
        return (
            tuple((line_point[0], float(line_point[1])) for line_point in line_points)
            if all(self.low <= line_point[1] <= self.high for line_point in line_points)
            else None
        )

    def says(self, value: Value) -> str:
        """A value in words: `125 %`, `-6.0 dB`, `on`."""
        if isinstance(value, bool):
            return "on" if value else "off"
        if isinstance(value, str):
            return f"“{value}”".replace("\n", " / ") if self.named == "text" else value or "none"
        if isinstance(value, tuple):
            return f"a line of {len(value)} moment{'s' if len(value) != 1 else ''}" if value else "none"
        text = (
            f"{value:+.1f}"
            if self.unit == "dB" and self.low < 0
            else f"{value:+g}"
            if self.unit == "stops"
            else f"{value:g}"
        )
        return f"{text} {self.unit}".strip()

    @property
    def between(self) -> str:
        """What may be set, in words."""
        if isinstance(self.default, bool):
            return "on or off"
        if self.named == "text":
            return f"a text of up to {LONGEST} letters"
        if self.named == "colour":
            return "a colour like #f4eee2"
        if self.named:
            return f"the name of a {self.named}, or nothing"
        if self.choices:
            return f"one of: {', '.join(self.choices)}"
        return f"{self.low:g} to {self.high:g} {self.unit}".strip()


def words_of(choice: type[StrEnum]) -> tuple[str, ...]:
    """The words of a closed choice, as they are kept and shown."""
    return tuple(str(one) for one in choice)


SEEN: tuple[Kind, ...] = ("piece", "cover")
LAID: tuple[Kind, ...] = ("cover", "title")
TITLED: tuple[Kind, ...] = ("title",)
EASES = ("both", "in", "out", "none")


class Fit(StrEnum):
    """How a shot of another shape stands in the picture."""

    AS_IT_FITS = "as it fits"
    WHOLE = "whole"
    FILLED = "filled"
    BLURRED = "blurred"


PLACES = {
    "whole picture": (0.0, 0.0, 1.0, 1.0),
    "left half": (0.0, 0.0, 0.5, 1.0),
    "right half": (0.5, 0.0, 0.5, 1.0),
    "upper half": (0.0, 0.0, 1.0, 0.5),
    "lower half": (0.0, 0.5, 1.0, 0.5),
    "left third": (0.0, 0.0, 1 / 3, 1.0),
    "middle third": (1 / 3, 0.0, 1 / 3, 1.0),
    "right third": (2 / 3, 0.0, 1 / 3, 1.0),
    "upper left": (0.0, 0.0, 0.5, 0.5),
    "upper right": (0.5, 0.0, 0.5, 0.5),
    "lower left": (0.0, 0.5, 0.5, 0.5),
    "lower right": (0.5, 0.5, 0.5, 0.5),
    "small lower right": (0.66, 0.62, 0.3, 0.3),
    "small lower left": (0.04, 0.62, 0.3, 0.3),
}


@dataclass(frozen=True, slots=True)
class Framing:
    """Which part of the picture is shown, and where. From about 120 % on a jump is soft (common practice).

    A push is a line of zoom, across and down with two moments, eased between them: it stays with its words.
    """

    zoom: Annotated[float, Setting("Zoom", SEEN, "%", 25, 400, 0.1, line=True, needs="picture")] = 100.0
    across: Annotated[float, Setting("Across", SEEN, "%", 0, 100, 0.1, line=True, needs="picture")] = 50.0
    down: Annotated[float, Setting("Down", SEEN, "%", 0, 100, 0.1, line=True, needs="picture")] = 40.0
    ease: Annotated[str, Setting("Eased", SEEN, choices=EASES, needs="picture")] = "both"
    turn: Annotated[float, Setting("Turned", SEEN, "°", -180, 180, 0.1, needs="picture")] = 0.0
    flip: Annotated[bool, Setting("Mirrored", SEEN, needs="picture")] = False
    crop_left: Annotated[float, Setting("Cut left", SEEN, "%", 0, 90, 0.1, needs="picture")] = 0.0
    crop_right: Annotated[float, Setting("Cut right", SEEN, "%", 0, 90, 0.1, needs="picture")] = 0.0
    crop_top: Annotated[float, Setting("Cut top", SEEN, "%", 0, 90, 0.1, needs="picture")] = 0.0
    crop_bottom: Annotated[float, Setting("Cut bottom", SEEN, "%", 0, 90, 0.1, needs="picture")] = 0.0
    fit: Annotated[str, Setting("Another shape", SEEN, choices=words_of(Fit), needs="picture")] = "as it fits"
    place: Annotated[str, Setting("Place", SEEN, choices=tuple(PLACES), needs="picture")] = "whole picture"
    border: Annotated[float, Setting("Border", SEEN, "%", 0, 10, 0.1, needs="picture")] = 0.0


@dataclass(frozen=True, slots=True)
class Look:
    """How the picture looks. A nearer look follows a wider one: it changes what that has made."""

    brightness: Annotated[
        float, Setting("Brightness", SEEN, "stops", -4, 4, 0.05, needs="picture", meets="follows")
    ] = 0.0
    contrast: Annotated[int, Setting("Contrast", SEEN, "%", -100, 100, needs="picture", meets="follows")] = 0
    saturation: Annotated[int, Setting("Saturation", SEEN, "%", -100, 100, needs="picture", meets="follows")] = 0
    warmth: Annotated[int, Setting("Warmth", SEEN, "%", -100, 100, needs="picture", meets="follows")] = 0
    tint: Annotated[int, Setting("Tint", SEEN, "%", -100, 100, needs="picture", meets="follows")] = 0
    blacks: Annotated[int, Setting("Blacks", SEEN, "%", -30, 30, needs="picture", meets="follows")] = 0
    whites: Annotated[int, Setting("Whites", SEEN, "%", -30, 30, needs="picture", meets="follows")] = 0
    night: Annotated[int, Setting("Night", SEEN, "%", 0, 100, needs="picture", meets="follows")] = 0
    table: Annotated[str, Setting("Table", SEEN, named="table", needs="picture", meets="follows")] = ""
    look_alone: Annotated[bool, Setting("Replace the inherited look", SEEN, needs="picture", meets="here")] = False


@dataclass(frozen=True, slots=True)
class Layering:
    """How a cover or a title lies over what is under it, and how it comes and goes."""

    opacity: Annotated[float, Setting("Opacity", LAID, "%", 0, 100, 1, line=True, needs="picture")] = 100.0
    appear: Annotated[int, Setting("Comes in over", LAID, "frames", 0, 1_000, needs="picture", wide=False)] = 0
    leave: Annotated[int, Setting("Goes out over", LAID, "frames", 0, 1_000, needs="picture", wide=False)] = 0
    through: Annotated[
        str, Setting("By way of", ("cover",), choices=("what lies under it", "black"), needs="picture")
    ] = "what lies under it"


ENTERS = ("fade", "slide", "rise", "letter by letter", "at once")
GOES = ("fade", "slide", "rise", "at once")
ALIGNED = ("left", "middle", "right")
FILLED = ("their colour", "the cover below")


@dataclass(frozen=True, slots=True)
class Title:
    """What is written over the picture, and how. Set for the whole story it is the style of all its titles."""

    text: Annotated[str, Setting("Text", TITLED, named="text", wide=False)] = ""
    font: Annotated[str, Setting("Font", TITLED, named="font")] = "Serif"
    size: Annotated[float, Setting("Size", TITLED, "% of the height", 1, 50, 0.1)] = 7.0
    under: Annotated[int, Setting("Lines under it", TITLED, "% of that", 20, 100)] = 100
    weight: Annotated[int, Setting("Weight", TITLED, "", 200, 900)] = 600
    colour: Annotated[str, Setting("Colour", TITLED, named="colour")] = "#f4eee2"
    edge: Annotated[float, Setting("Dark edge", TITLED, "% of the size", 0, 20, 0.5)] = 4.0
    box: Annotated[int, Setting("Box behind", TITLED, "%", 0, 100)] = 0
    aligned: Annotated[str, Setting("Aligned", TITLED, choices=ALIGNED)] = "middle"
    title_x: Annotated[float, Setting("From the left", TITLED, "%", 0, 100, 0.1)] = 50.0
    title_y: Annotated[float, Setting("From the top", TITLED, "%", 0, 100, 0.1)] = 50.0
    enters: Annotated[str, Setting("Comes by", TITLED, choices=ENTERS)] = "fade"
    goes: Annotated[str, Setting("Goes by", TITLED, choices=GOES)] = "fade"
    rolls: Annotated[bool, Setting("Rolls up", TITLED)] = False
    filled: Annotated[str, Setting("Letters filled with", TITLED, choices=FILLED)] = "their colour"


@dataclass(frozen=True, slots=True)
class Together:
    """Of a group of pieces: its pictures, with the covers tied to them, are put together first; then the framing,
    the look and the opacity that are set on the group apply to the whole."""

    as_one: Annotated[bool, Setting("As one picture", ("group",), needs="picture")] = False


ANY: tuple[Kind, ...] = ("piece", "cover", "sound")
SHAPES = {"as the project": 0.0, "16:9": 16 / 9, "9:16": 9 / 16, "1:1": 1.0, "4:5": 0.8, "own": 0.0}
HUMS = ("leave", "find it", "50 Hz", "60 Hz")
FADES = ("equal power", "straight")


class Between(StrEnum):
    """What is seen between two frames of slow motion."""

    REPEATED = "repeated"
    BLENDED = "blended"


class HeardAs(StrEnum):
    """What becomes of the sound of what is retimed; as a rule: of a piece its pitch is kept, a cover is not heard."""

    AS_A_RULE = "as a rule"
    PITCH_KEPT = "pitch kept"
    WITH_THE_SPEED = "with the speed"
    NOT_HEARD = "not heard"


MICROPHONES = ("as recorded", "left", "right", "both as one")


@dataclass(frozen=True, slots=True)
class Level:
    """How loud something is heard, and how it comes and goes. `duck` is how far it goes down where somebody speaks."""

    level: Annotated[float, Setting("Level", ANY, "dB", -60, 12, 0.1, line=True, needs="sound", meets="adds")] = 0.0
    level_alone: Annotated[bool, Setting("Replace the inherited level", ANY, needs="sound", meets="here")] = False
    mute: Annotated[bool, Setting("Mute", ANY, needs="sound")] = False
    duck: Annotated[
        Line, Setting("Ducking", ("cover", "sound"), "dB", -60, 0, 0.1, line="only", needs="sound", wide=False)
    ] = ()
    fade_in: Annotated[int, Setting("Fade in", ANY, "frames", 0, 100_000, needs="sound", wide=False)] = 0
    fade_out: Annotated[int, Setting("Fade out", ANY, "frames", 0, 100_000, needs="sound", wide=False)] = 0
    fade: Annotated[str, Setting("Fades", ANY, choices=FADES, needs="sound")] = "equal power"
    balance: Annotated[int, Setting("Balance", ANY, "%", -100, 100, needs="sound")] = 0
    channels: Annotated[str, Setting("Microphone", ANY, choices=MICROPHONES, needs="sound")] = "as recorded"
    slip: Annotated[
        int, Setting("Slip of its sound", ("sound",), "samples", -48_000, 48_000, needs="sound", wide=False)
    ] = 0
    natural: Annotated[bool, Setting("Its own sound", ("cover",), needs="sound")] = False


@dataclass(frozen=True, slots=True)
class Cleaning:
    """What is taken out of a recording's sound, once for every use: it makes a sound of its own, and the raw one
    stays."""

    low_cut: Annotated[int, Setting("Low cut", ("recording",), "Hz", 0, 300, needs="sound")] = 0
    high_cut: Annotated[int, Setting("High cut", ("recording",), "Hz", 0, 20_000, needs="sound")] = 0
    hum: Annotated[str, Setting("Mains hum", ("recording",), choices=HUMS, needs="sound")] = "leave"
    noise: Annotated[int, Setting("Steady noise", ("recording",), "dB", 0, 30, needs="sound")] = 0
    clicks: Annotated[bool, Setting("Take out clicks", ("recording",), needs="sound")] = False
    even: Annotated[bool, Setting("Even out the voice", ("recording",), needs="sound")] = False


@dataclass(frozen=True, slots=True)
class Whole:
    """Of the whole story: the shape of its picture; the loudness it is brought to, and short dips that keep its
    peaks under the limit."""

    shape: Annotated[str, Setting("Shape of the picture", ("story",), choices=tuple(SHAPES))] = "as the project"
    ratio: Annotated[float, Setting("Width over height", ("story",), "", 0.25, 4, 0.001)] = 1.778

    target: Annotated[float, Setting("Loudness aimed at", ("story",), "LUFS", -40, -8, 0.5)] = -23.0
    dips: Annotated[Line, Setting("Peak dips", ("story",), "dB", -24, 0, 0.1, line="only")] = ()


@dataclass(frozen=True, slots=True)
class Pace:
    """How fast a shot runs: `span` frames of it fill its place; 0: as it was shot; or `speed` is a ramp over the
    shot, in steps or straight from one speed to the next; or one frame of it is `held`. All are set by retiming.
    `heard` says what becomes of its sound, `between` what is seen between two of its frames."""

    backwards: Annotated[bool, Setting("Backwards", SEEN, needs="picture", wide=False)] = False
    span: Annotated[
        int, Setting("Frames of the shot shown", ("cover",), "frames", 0, 10**9, needs="picture", wide=False)
    ] = 0
    speed: Annotated[Line, Setting("Speed", SEEN, "%", 10, 1000, 0.001, line="only", needs="picture", wide=False)] = ()
    steps: Annotated[bool, Setting("Speed in steps", SEEN, needs="picture", wide=False)] = False
    held: Annotated[int, Setting("Frame held", ("piece",), "", -1, 10**9, needs="picture", wide=False)] = -1
    heard: Annotated[str, Setting("Sound when retimed", SEEN, choices=words_of(HeardAs), needs="sound", wide=False)] = (
        "as a rule"
    )
    between: Annotated[str, Setting("Frames of slow motion", SEEN, choices=words_of(Between), needs="picture")] = (
        "repeated"
    )


RETIMED = ("span", "speed", "steps", "held")  # set by retiming, with what that needs, not by themselves


def _declared(families: Iterable[type]) -> dict[str, Setting]:
    declared_settings = {}
    for family in families:
        hints = get_type_hints(family, include_extras=True)
        for field in fields(family):
            setting: Setting = get_args(hints[field.name])[1]
            declared_settings[field.name] = replace(
                setting, name=field.name, family=family.__name__.lower(), default=cast(Value, field.default)
            )
    return declared_settings


SETTINGS: Mapping[str, Setting] = _declared((Framing, Look, Layering, Title, Together, Level, Cleaning, Whole, Pace))


def ranges() -> dict[str, dict[str, float]]:
    """Range and step of every setting that is a number, as pages read them."""
    numbers = {name: setting for name, setting in SETTINGS.items() if setting.low < setting.high}
    return {
        name: {"low": own_range.low, "high": own_range.high, "step": own_range.step}
        for name, own_range in numbers.items()
    }


CLEANING = tuple(name for name, setting in SETTINGS.items() if setting.family == "cleaning")
LOOK = tuple(name for name, setting in SETTINGS.items() if setting.family == "look" and setting.meets == "follows")
ALONE = {
    "level": "level_alone",
    **dict.fromkeys(LOOK, "look_alone"),
}  # the switch by which a scope replaces what it inherits
TITLE_STYLE = tuple(name for name, setting in SETTINGS.items() if setting.family == "title")
TITLE_DRAWN = tuple(
    name for name in TITLE_STYLE if name not in ("enters", "goes", "filled")
)  # what decides how its letters look
LAYERING = tuple(name for name, setting in SETTINGS.items() if setting.family == "layering")
PACE = tuple(
    name for name, setting in SETTINGS.items() if setting.family == "pace" and name not in ("heard", "between")
)
FRAMING = tuple(name for name, setting in SETTINGS.items() if setting.family == "framing")
OF_ONE = frozenset(
    (*FRAMING, *LOOK, "look_alone", *LAYERING)
)  # what a group that is seen as one picture has of its own


@dataclass(frozen=True, slots=True)
class Values:
    """Settings that differ from their default, by name. Equal ones compare equal."""

    rows: tuple[tuple[str, Value], ...] = ()

    def __getitem__(self, name: str) -> Any:
        """The value that stands here, else the default."""
        for key, value in self.rows:
            if key == name:
                return value
        return SETTINGS[name].default

    def __contains__(self, name: str) -> bool:
        return any(key == name for key, _ in self.rows)

    def __iter__(self) -> Iterator[str]:
        return (name for name, _ in self.rows)

    def __bool__(self) -> bool:
        return bool(self.rows)

    def with_value(self, name: str, value: Value, keep: bool = False) -> Values:
        """With a value set; one that is the default is left out, unless it has to stand against a wider scope
        (`keep`)."""
        other_rows = [kept_row for kept_row in self.rows if kept_row[0] != name]
        if keep or value != SETTINGS[name].default:
            other_rows.append((name, value))
        return Values(tuple(sorted(other_rows)))

    def without(self, name: str) -> Values:
        """The same values without one of them."""
        return Values(tuple(kept_row for kept_row in self.rows if kept_row[0] != name))

    def to_json(self) -> dict[str, Any]:
        """By name; lines as lists."""
        return {
            name: [list(line_point) for line_point in value] if isinstance(value, tuple) else value
            for name, value in self.rows
        }

    @staticmethod
    def from_json(d: Mapping[str, Any]) -> Values:
        """What was kept; a setting there is none of any more is left out. ValueError for a value that cannot be."""
        value_rows: list[tuple[str, Value]] = []
        for name, value in d.items():
            if name in SETTINGS:
                kept_value = SETTINGS[name].as_kept(value)
                if kept_value is None:
                    raise ValueError(f"{name} cannot be {value!r}")
                value_rows.append((name, kept_value))
        return Values(tuple(sorted(value_rows))) if value_rows else NONE


NONE = Values()


def reaching(name: str, scopes: Sequence[Values]) -> Sequence[Values]:
    """Those of these scopes, from wide to near, that a setting is read from: from the nearest on that replaces what
    it inherits."""
    switch = ALONE.get(name)
    if switch is None:
        return scopes
    return scopes[
        next(
            (
                scope_index
                for scope_index in range(len(scopes) - 1, -1, -1)
                if switch in scopes[scope_index] and scopes[scope_index][switch]
            ),
            0,
        ) :
    ]


def value_over_scopes(name: str, scopes: Sequence[Values]) -> Value:
    """What holds where these scopes meet, from wide to near: the nearest's, or the sum of all (levels in dB do).

    Lines add up to a line: both are straight between their moments.
    """
    setting = SETTINGS[name]
    if setting.meets == "here":
        return cast(Value, scopes[-1][name]) if scopes else setting.default
    values_found = [cast(Value, values[name]) for values in reaching(name, scopes) if name in values]
    if not values_found:
        return setting.default
    if setting.meets != "adds" or len(values_found) == 1:
        return values_found[-1]
    return added(values_found)


def added(values: Iterable[Value]) -> float | Line:
    """Numbers and lines together: a number, or a line with the moments of all of them; straight between them as they
    are."""
    value_rows = list(values)
    flat = round(sum(added_row for added_row in value_rows if isinstance(added_row, (int, float))), 6)
    lines = [added_row for added_row in value_rows if isinstance(added_row, tuple)]
    if not lines:
        return flat
    moments = sorted({moment for value_line in lines for moment, _ in value_line})
    return tuple((moment, flat + sum(on_line(value_line, moment) for value_line in lines)) for moment in moments)


def on_line(line: Line, moment: float) -> float:
    """The value of a line at a moment: straight between its moments, as at its ends beyond them."""
    before = line[0]
    for line_point in line:
        if moment < line_point[0]:
            if moment <= before[0]:
                return before[1]
            return before[1] + (line_point[1] - before[1]) * (moment - before[0]) / (line_point[0] - before[0])
        before = line_point
    return before[1]
