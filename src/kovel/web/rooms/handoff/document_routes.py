"""Documents of the story: pages to print, PDF and CSV."""

from collections.abc import ValuesView
from dataclasses import dataclass

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response

from kovel.core.time.timecode import stamp
from kovel.exchange.documents import DOCUMENTS, Document, DocumentKind, to_csv
from kovel.services.handoff.story_documents import document, pdf_of
from kovel.store import projects
from kovel.store.projects import Project
from kovel.store.stories import Kept
from kovel.web.open_story import opened
from kovel.web.pages import download, page, web

router = APIRouter(prefix="/p/{project}")


@router.get("/papers/{kind}.csv")
def as_csv(request: Request, project: int, kind: str) -> Response:
    """A document as CSV."""
    data_folder = web(request).data
    made_document = document(data_folder, opened(request, project), kind)
    return download(
        to_csv(made_document), f"{projects.get(data_folder.db, project).name} - {made_document.title}.csv", "text/csv"
    )


@router.get("/papers/{kind}.pdf")
def as_pdf(request: Request, project: int, kind: str) -> Response:
    """A document as PDF."""
    data_folder = web(request).data
    made_document, body = pdf_of(data_folder, opened(request, project), kind)
    return download(
        body, f"{projects.get(data_folder.db, project).name} - {made_document.title}.pdf", "application/pdf"
    )


@dataclass(frozen=True, slots=True)
class Paper:
    """A document of a story, to print."""

    project: Project
    kept: Kept
    kind: str
    kinds: ValuesView[DocumentKind]
    paper: Document
    length: str


@router.get("/papers/{kind}")
def to_print(request: Request, project: int, kind: str) -> HTMLResponse:
    """A document as a page to print."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    return page(
        request,
        "handoff/documents.html",
        Paper(
            project=projects.get(data_folder.db, project),
            kept=kept_story,
            kind=kind,
            kinds=DOCUMENTS.values(),
            paper=document(data_folder, kept_story, kind),
            length=stamp(kept_story.story.length, kept_story.story.rate),
        ),
    )
