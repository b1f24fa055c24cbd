"""The Log room: one long recording at a time, and the whole log."""

from kovel.web.room import Room
from kovel.web.rooms.log import routes, search_routes, sheet_routes, shot_routes, theme_routes, word_routes

ROOM = Room(
    "log",
    "Log",
    (
        sheet_routes.router,
        shot_routes.router,
        routes.router,
        word_routes.router,
        search_routes.router,
        theme_routes.router,
    ),
    title_hidden=True,
    writes_story=True,
)
