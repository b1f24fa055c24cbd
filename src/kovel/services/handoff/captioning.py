"""The captions of a story: worked out from its words and the editor's changes, or those of a file that was brought
in."""

from collections.abc import Sequence
from dataclasses import replace

from kovel.core.errors import Invalid
from kovel.core.plan.outputs import Output, checked
from kovel.core.story.model import Story
from kovel.core.time.rate import Rate
from kovel.core.words.subtitles import CHARS, FAST, LINES, Cue, Said, broken, cues, without_name
from kovel.core.words.transcript import words_in
from kovel.data_folder import DataFolder
from kovel.exchange.caption_formats import MOST, CaptionFormat, Captions, cues_of
from kovel.services.log.speech_levels import spoken_in
from kovel.services.received_files import taken_apart, text_of
from kovel.store import caption_rows, recordings, stories


def said(data_folder: DataFolder, kept_story: stories.Kept) -> list[Said]:
    """The words that are heard in the dialogue, in story frames."""
    story, said_cues = kept_story.story, []
    sources = recordings.sources(data_folder.db, kept_story.project)
    for at, piece in zip(story.starts, story.pieces, strict=False):
        source = sources.get(piece.source) if piece.source is not None else None
        if source is None or not source.sound or piece.take == "picture" or story.value(piece, "mute", sources):
            continue
        for word_frame, word in words_in(
            spoken_in(data_folder, piece, piece.start, piece.length, story.rate), story.rate, piece.start, piece.length
        ):
            end = min(word.frames(story.rate)[1], piece.end)
            if word.text.strip():
                said_cues.append(
                    Said(at + word_frame - piece.start, at + max(word_frame + 1, end) - piece.start, word, source.id)
                )
    return sorted(said_cues, key=lambda x: x.at)


def captions_of(
    data_folder: DataFolder, kept_story: stories.Kept, *, chars: int = CHARS, names: bool | None = None
) -> list[Cue]:
    """As they are shown, written and burnt in. `names`: whether a new speaker is named; none said: where there are
    several."""
    file = caption_rows.brought(data_folder.db, kept_story.id)
    if file:
        cues_of_film = [cue for cue in file[1] if cue.at < kept_story.story.length]
        return (
            cues_of_film
            if chars >= CHARS
            else [replace(cue, lines=_narrowed(cue.lines, chars)) for cue in cues_of_film]
        )
    words = said(data_folder, kept_story)
    several = len({spoken.word.speaker for spoken in words if spoken.word.speaker}) > 1
    return cues(
        words,
        kept_story.story.rate,
        chars=chars,
        names=several if names is None else names,
        edits=caption_rows.edits(data_folder.db, kept_story.id),
    )


def _narrowed(lines: Sequence[str], chars: int) -> tuple[str, ...]:
    """Lines of a caption broken anew where they are too long for a narrow picture."""
    return tuple(lines) if max(map(len, lines), default=0) <= chars else broken(" ".join(lines), chars)


def change(data_folder: DataFolder, kept_story: stories.Kept, key: tuple[int, int], text: str) -> Cue:
    """Type another text for one caption, in lines as they are typed; an empty one: as the words say."""
    text = "\n".join(
        " ".join(text_line.split()) for text_line in text.replace("\r", "").split("\n") if text_line.strip()
    )
    if len(text) > 400:
        raise Invalid("That is too long for one caption.")
    file = caption_rows.brought(data_folder.db, kept_story.id)
    if file:
        changed_cues = [
            Cue(cue.at, cue.end, broken(text), cue.speaker, cue.key, True) if cue.key == key and text else cue
            for cue in file[1]
        ]
        if all(cue.key != key for cue in changed_cues):
            raise Invalid("That caption is no longer there.")
        caption_rows.bring(data_folder.db, kept_story.id, file[0], changed_cues, f"“{text[:40]}” typed")
    else:
        plain = {cue.key: cue for cue in cues(said(data_folder, kept_story), kept_story.story.rate)}
        if key not in plain:
            raise Invalid("That caption is no longer there: its words were changed or left the story.")
        was, text = plain[key].text, without_name(text, plain[key].speaker)
        caption_rows.change(
            data_folder.db, kept_story.id, key, was, "" if text.replace("\n", " ") == was and "\n" not in text else text
        )
    return next(cue for cue in captions_of(data_folder, kept_story) if cue.key == key)


def bring(data_folder: DataFolder, kept_story: stories.Kept, name: str, body: bytes) -> tuple[int, list[str]]:
    """Let a caption file stand for a story; how many of its cues, and what could not be taken."""
    told_cues = taken_apart(data_folder, "read_cues", name, text_of(name, body), most=MOST)
    read_cues, refused = cues_of(told_cues, kept_story.story.rate), told_cues["refused"]
    if not read_cues:
        raise Invalid(f"{name} holds no captions that can be read. Bring a .vtt or .srt file.")
    caption_rows.bring(data_folder.db, kept_story.id, name, read_cues)
    notes = [f"Line {n} was left out: {why}." for n, why in refused[:20]]
    late = sum(cue.at >= kept_story.story.length for cue in read_cues)
    notes += [f"{late} of them begin behind the end of the story."] if late else []
    return len(read_cues), notes


def too_fast(cue: Cue, frame_rate: Rate) -> str:
    """Why a caption is hard to read; nothing where it is not."""
    told_reasons = [f"{cue.pace(frame_rate)} words a minute"] if cue.pace(frame_rate) > FAST else []
    told_reasons += [f"{len(cue.lines)} lines"] if len(cue.lines) > LINES else []
    long = max(map(len, cue.lines), default=0)
    told_reasons += [f"a line of {long} letters"] if long > 42 else []
    return ", ".join(told_reasons)


def chapters_of(story: Story, output: Output) -> list[tuple[int, str]]:
    """Headings as chapters of what is made: the first begins with it."""
    assert output.end is not None
    chapter_rows = sorted((story.starts[story.index_of(section.piece)], section.heading) for section in story.sections)
    before = [name for at, name in chapter_rows if at <= output.start]
    inside = [(at - output.start, name) for at, name in chapter_rows if output.start < at < output.end]
    if not before and not inside:
        return []
    return [(0, before[-1] if before else "Beginning"), *inside]


def caption_file(
    data_folder: DataFolder, kept_story: stories.Kept, format: CaptionFormat, chars: int = CHARS
) -> tuple[str, list[Cue]]:
    """The captions of a story, or its chapters, as the text of a file; and the cues that are in it."""
    caption_cues = [] if format.is_chapters else captions_of(data_folder, kept_story, chars=chars)
    chapters = chapters_of(kept_story.story, checked(Output(), kept_story.story)) if format.is_chapters else []
    return format.write(Captions(caption_cues, chapters, kept_story.story.length, kept_story.story.rate)), caption_cues
