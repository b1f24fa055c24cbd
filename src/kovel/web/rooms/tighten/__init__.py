"""The Tighten room: what could go, and quick cuts on sounds."""

from kovel.web.room import Room
from kovel.web.rooms.tighten import hit_routes, routes

ROOM = Room(
    "tighten",
    "Tighten",
    (
        routes.router,
        hit_routes.router,
    ),
    title_hidden=True,
    writes_story=True,
)
