"""What a room is: a folder in `web/rooms` with its routes, views, templates and scripts, and a line in
`rooms/__init__.py`."""

from dataclasses import dataclass

from fastapi import APIRouter


@dataclass(frozen=True, slots=True)
class Room:
    """One room of the application.

    :param key: its folder, and its place in addresses: /p/2/KEY
    :param name: as the navigation has it; empty where it is not in there
    :param routers: in the order in which an address is looked for
    :param writes_story: whether it sends into the open story without showing it: named at the foot of its pages
    :param title_hidden: whether its title stands on no sheet, and is said to screen readers alone
    """

    key: str
    name: str
    routers: tuple[APIRouter, ...]
    title_hidden: bool = False
    writes_story: bool = False
