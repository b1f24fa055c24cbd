"""Help: every key of every page, and the words, on one sheet that can be printed."""

from kovel.web.room import Room
from kovel.web.rooms.help import routes

ROOM = Room("help", "", (routes.router,))
