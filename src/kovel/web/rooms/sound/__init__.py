"""The Sound room: the strip of the story."""

from kovel.web.room import Room
from kovel.web.rooms.sound import routes

ROOM = Room("sound", "Sound", (routes.router,), title_hidden=True)
