"""The Hand-off room: checks, outputs, captions, documents."""

from kovel.web.room import Room
from kovel.web.rooms.handoff import caption_routes, document_routes, routes

ROOM = Room(
    "handoff",
    "Hand-off",
    (
        caption_routes.router,
        routes.router,
        document_routes.router,
    ),
    writes_story=True,
)
