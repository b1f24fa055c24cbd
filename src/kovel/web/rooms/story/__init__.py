"""The Story room: the lined page."""

from kovel.web.room import Room
from kovel.web.rooms.story import routes, tool_routes

ROOM = Room(
    "story",
    "Story",
    (
        tool_routes.router,
        routes.router,
    ),
    title_hidden=True,
)
