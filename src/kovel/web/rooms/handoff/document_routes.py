"""Documents of the story: pages to print, PDF and CSV."""

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response

from kovel.core.time.timecode import stamp
from kovel.exchange.documents import DOCUMENTS, to_csv
from kovel.services.handoff.story_documents import document, pdf_of
from kovel.store import projects
from kovel.web.open_story import opened
from kovel.web.pages import download, page, web

router = APIRouter(prefix="/p/{project}")


@router.get("/papers/{kind}.csv")
def as_csv(request: Request, project: int, kind: str) -> Response:
    """A document as CSV."""
    data = web(request).data
    made = document(data, opened(request, project), kind)
    return download(to_csv(made), f"{projects.get(data.db, project).name} - {made.title}.csv", "text/csv")


@router.get("/papers/{kind}.pdf")
def as_pdf(request: Request, project: int, kind: str) -> Response:
    """A document as PDF."""
    data = web(request).data
    made, body = pdf_of(data, opened(request, project), kind)
    return download(body, f"{projects.get(data.db, project).name} - {made.title}.pdf", "application/pdf")


@router.get("/papers/{kind}")
def to_print(request: Request, project: int, kind: str) -> HTMLResponse:
    """A document as a page to print."""
    data = web(request).data
    kept = opened(request, project)
    return page(
        request,
        "handoff/documents.html",
        project=projects.get(data.db, project),
        kept=kept,
        kind=kind,
        kinds=DOCUMENTS.values(),
        paper=document(data, kept, kind),
        length=stamp(kept.story.length, kept.story.rate),
    )
