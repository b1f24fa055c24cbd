"""The Picture room: how the film looks."""

from kovel.web.room import Room
from kovel.web.rooms.picture import routes

ROOM = Room("picture", "Picture", (routes.router,), title_hidden=True)
