"""The documents of a story as it stands."""

from functools import cache, partial
from itertools import groupby

from kovel.core.errors import Missing
from kovel.core.time.timecode import stamp
from kovel.core.words.subtitles import named
from kovel.data_folder import DataFolder
from kovel.exchange.documents import DOCUMENTS, Document, DocumentInput, document_of
from kovel.services.handoff.captioning import said as words_said
from kovel.services.story.story_checks import findings
from kovel.store import projects, recordings, stories


def pdf_of(data_folder: DataFolder, kept_story: stories.Kept, kind: str) -> tuple[Document, bytes]:
    """One of DOCUMENTS, and as PDF, in the editor's own fonts where a letter needs one."""
    from kovel.exchange.document_pdf import to_pdf  # takes a second to load

    made_document = document(data_folder, kept_story, kind)
    own_fonts = (
        sorted(path for path in data_folder.fonts.iterdir() if path.suffix in (".ttf", ".otf"))
        if data_folder.fonts.is_dir()
        else []
    )
    project = projects.get(data_folder.db, kept_story.project)
    return made_document, to_pdf(
        made_document, project.name, kept_story.name, stamp(kept_story.story.length, kept_story.story.rate), own_fonts
    )


def document(data_folder: DataFolder, kept_story: stories.Kept, kind: str) -> Document:
    """One of DOCUMENTS."""
    if kind not in DOCUMENTS:
        raise Missing(f"There is no such document. There are: {', '.join(DOCUMENTS)}.")
    recordings_by_id = {
        recording.id: recording for recording in recordings.of_project(data_folder.db, kept_story.project)
    }
    all_said = cache(partial(words_said, data_folder, kept_story))  # asked for by the documents that tell words

    def said(start: int, end: int) -> list[tuple[str, str]]:
        inside = [spoken for spoken in all_said() if start <= spoken.at < end]
        runs = groupby(inside, key=lambda w: w.word.speaker)
        return [(named(speaker), " ".join(spoken.word.text for spoken in run)) for speaker, run in runs]

    told_input = DocumentInput(
        kept_story.story,
        projects.get(data_folder.db, kept_story.project),
        recordings_by_id,
        said,
        lambda: findings(data_folder, kept_story.project, kept_story.story),
    )
    return document_of(DOCUMENTS[kind], told_input)
