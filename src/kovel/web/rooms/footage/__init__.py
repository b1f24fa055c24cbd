"""The Footage room: recordings brought in, named, ordered, prepared."""

from kovel.web.room import Room
from kovel.web.rooms.footage import bin_routes, card_routes, preparing_routes, routes

ROOM = Room(
    "footage",
    "Footage",
    (
        routes.router,
        bin_routes.router,
        preparing_routes.router,
        card_routes.router,
    ),
)
