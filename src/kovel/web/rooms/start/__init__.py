"""The start page: projects."""

from kovel.web.room import Room
from kovel.web.rooms.start import routes

ROOM = Room("start", "", (routes.router,))
