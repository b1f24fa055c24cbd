"""Titles: words over the picture. A title is a cover without a recording: it is tied, trimmed, moved and set like one.

cover 2            [Maren Vosk, ferrywoman]        what is under it is seen around the letters
dialogue    [ A ........................ ]
"""

from __future__ import annotations

from dataclasses import replace
from typing import cast

from kovel.core.story.covers import free_lane
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import Edit, frames_in_words, lane_key, refuse_locked
from kovel.core.story.model import TITLE, Cover, Refused, Sources, Story
from kovel.core.story.settings import NONE, SETTINGS, Value, Values
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock

# How each kind of title begins: set on it, changed afterwards like anything that is set.
HOW: dict[str, dict[str, Value]] = {
    "title": {"size": 9.0, "appear": 12, "leave": 12},
    "lower third": {
        "size": 5.0,
        "aligned": "left",
        "title_x": 6.0,
        "title_y": 82.0,
        "box": 55,
        "edge": 0.0,
        "under": 68,
        "enters": "slide",
        "appear": 12,
        "leave": 12,
    },
    "time and place": {
        "size": 4.5,
        "aligned": "left",
        "title_x": 6.0,
        "title_y": 12.0,
        "appear": 20,
        "leave": 12,
        "enters": "letter by letter",
    },
    "credits": {"size": 5.0, "rolls": True, "title_y": 0.0},
}
SECONDS = {"title": 4, "lower third": 5, "time and place": 4, "credits": 12}


@edit(
    entry("Title over pictures: TEXT", also="text, caption, super", typed="text", at="playhead", text="typed"),
    entry(
        "Lower third: NAME / ROLE",
        also="name, super, text",
        typed="text",
        at="playhead",
        text="typed",
        how="=lower third",
    ),
    entry("Time and place: TEXT", typed="text", at="playhead", text="typed", how="=time and place"),
    entry(
        "Rolling credits: LINE / LINE",
        also="end credits, text",
        typed="text",
        at="playhead",
        text="typed",
        how="=credits",
    ),
)
def lay_title(
    story: Story,
    sources: Sources,
    at: int,
    text: str,
    how: str = "title",
    length: int | None = None,
    by_clock: bool = False,
) -> Edit:
    """Write over the picture from story frame `at` on; a `/` between spaces begins a new line.

    It is tethered to the word there, or (`by_clock`) stands at its time whatever is moved.
    """
    if how not in HOW:
        raise Refused(f"A title is one of: {', '.join(HOW)}.")
    said_text = SETTINGS["text"].as_kept(text)
    if said_text is None:
        raise Refused(
            "That text is too long for a title: 2,000 letters at most."
            if len(text) > 2_000
            else "That text cannot be shown."
        )
    if not said_text:
        raise Refused("Type what the title says.")
    if not 0 <= at < story.length:
        raise Refused(
            "A title must begin over the story."
            if story.length
            else "Add something to the story first: a title lies over it."
        )
    n = round(SECONDS[how] * story.rate.fps) if length is None else length
    n = min(n, story.length - at) if length is None else n
    if n < 1:
        raise Refused("A title must be seen for a frame at least.")
    lane = free_lane(story, at, at + n)
    refuse_locked(story, lane_key(lane))
    style_values = dict(HOW[how])
    if cast(int, style_values.get("appear", 0)) + cast(int, style_values.get("leave", 0)) > n:
        style_values["appear"] = style_values["leave"] = 0
    own_values = NONE
    for name, value in {**style_values, "text": said_text}.items():
        own_values = own_values.with_value(name, value)
    tether = story.tether_at(at)
    cover = Cover(
        story.next_id,
        TITLE,
        0,
        n,
        tether if not by_clock else replace(tether, piece=0, moment=at),
        lane,
        settings=own_values,
    )
    new_story = replace(story, covers=(*story.covers, cover), next_id=story.next_id + 1)
    summary = (
        f"{how.capitalize()} “{str(said_text).splitlines()[0][:40]}” at {clock(at, story.rate)}, {frames_in_words(n)}"
    )
    return settle(story, new_story, sources, summary, made=(cover.id,), playhead=at)


@edit(entry("All titles like this one", title="cover"))
def title_style(story: Story, sources: Sources, title: int) -> Edit:
    """Make how this title is written the style of the whole story: font, weight, colour and edge of all its titles.

    How large they are, where they stand and how they come stays with each.
    """
    cover = story.cover(title)
    if cover.source != TITLE:
        raise Refused("That is no title.")
    whole = dict(story.settings).get("story", NONE)
    new_style: Values = whole
    for name in STYLE:
        value = story.value(cover, name, sources)
        new_style = new_style.with_value(name, value)
    scoped_values = tuple(
        sorted((name, values) for name, values in (dict(story.settings) | {"story": new_style}).items() if values)
    )

    def plain(cover: Cover) -> Cover:
        own_values = cover.settings
        for name in STYLE:
            own_values = own_values.without(name) if cover.source == TITLE else own_values
        return replace(cover, settings=own_values)

    draft = replace(
        story,
        settings=scoped_values,
        covers=tuple(plain(cover) for cover in story.covers),
        loose=tuple(plain(cover) for cover in story.loose),
    )
    if draft == story:
        raise Refused("They are all written like that already.")
    count = sum(cover.source == TITLE for cover in (*story.covers, *story.loose))
    return settle(
        story,
        draft,
        sources,
        f"{count} title{'s' if count != 1 else ''} written like “{cover.title.splitlines()[0][:40]}”",
    )


STYLE = ("font", "weight", "colour", "edge")
