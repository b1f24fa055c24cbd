"""What every route is given and holds to, whatever it does."""

from fastapi import Request

from kovel.core.errors import Missing
from kovel.store import projects
from kovel.store.projects import OWNERS
from kovel.web.pages import web


def of_the_project(request: Request) -> None:
    """Whatever an address names (`/p/2/recordings/7/...`) is there, and is of the project that it names."""
    named = request.path_params
    if not request.url.path.startswith("/p/"):
        return
    database = web(request).data.db
    try:
        project = int(named["project"])
        numbers = {what: int(named[what]) for what in OWNERS if what in named}
        if max(map(abs, (project, *numbers.values()))) >= 1 << 63:  # no row has such a number
            raise ValueError
    except ValueError:
        raise Missing("There is no such page.") from None
    projects.get(database, project)
    for what, number in numbers.items():
        projects.belongs(database, project, what, number)
