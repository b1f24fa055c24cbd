"""Every room, in the order of the work."""

from kovel.web.room import Room
from kovel.web.rooms import footage, handoff, help, log, picture, sound, start, story, tighten

ROOMS: tuple[Room, ...] = (
    start.ROOM,
    footage.ROOM,
    log.ROOM,
    tighten.ROOM,
    story.ROOM,
    picture.ROOM,
    sound.ROOM,
    handoff.ROOM,
    help.ROOM,
)
