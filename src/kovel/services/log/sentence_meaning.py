"""What is said, by its meaning: worked out as a job whenever words come, searched, and kept ready while nothing
changes."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations
from pathlib import Path
from typing import Any, Literal
from uuid import uuid4

import numpy as np
import numpy.typing as npt

from kovel.core.errors import Invalid
from kovel.core.story.model import Sources
from kovel.core.story.sync import set_time
from kovel.core.time.rate import SAMPLE_RATE
from kovel.core.words.nearness import ENGLISH, MANY, Said, content, nearest, same_answer
from kovel.core.words.theme_groups import words_of
from kovel.data_folder import DataFolder
from kovel.services.tighten.proposals import interviewer
from kovel.store import jobs, kept_settings, meanings, projects, recordings, subclips, transcripts
from kovel.store.jobs import Job

Floats = npt.NDArray[np.float32]
SHOT_SAYS = 3  # sentences of a shot's own that tell what it shows
WORDS = 3000  # of a project that can name a theme: the most frequent ones
Why = Literal["word", "meaning"]


ALIKE = 3  # sentences that two recordings say at one distance, from which on they are of one moment


@dataclass(frozen=True)
class Meant:
    """All sentences of a project and their meaning, (n, WIDTH); `same`: see `same_answer`; those that are not worked
    out yet."""

    said: tuple[Said, ...]
    rows: Floats
    same: npt.NDArray[np.bool_]
    lacking: int
    state: str


@dataclass(frozen=True, slots=True)
class Hit:
    """A sentence that was found, by its words (marked in the text by \\x02 and \\x03) or by its meaning."""

    said: Said
    text: str
    how: Why
    score: float


_ready: dict[tuple[str, int], Meant] = {}


def meant(data: DataFolder, project: int) -> Meant:
    """Sentences with their meaning, read again only when words or meanings changed since."""
    who = interviewer(data)
    state = f"{meanings.state(data.db, project)} {meanings.count(data.db)} {who}"
    key = (str(data.db.path), project)
    known = _ready.get(key)
    if known is None or known.state != state:
        said_sentences = tuple(heard_once(meanings.said(data.db, project, who), recordings.sources(data.db, project)))
        sentence_vectors = meanings.vectors(data.db, [content(spoken.text) for spoken in said_sentences])
        known = Meant(
            said_sentences,
            sentence_vectors,
            same_answer(said_sentences),
            int((~sentence_vectors.any(1)).sum()) if len(said_sentences) else 0,
            state,
        )
        if len(_ready) > 4:
            _ready.clear()
        _ready[key] = known
    return known


def heard_once(said: Sequence[Said], sources: Sources) -> list[Said]:
    """Without the sentences that another recording of the same moment has heard already: one that is synced to it, or
    one that says the same words at the same distance.

    A   [We haul]  [She said]        B   ~~~~~~~~~~ [She said] [Every]      of B only "Every" is left
    """
    apart = _same_words(said)
    sentences_once: list[Said] = []
    taken: dict[
        object, list[tuple[Fraction, Fraction, int]]
    ] = {}  # by moment: stretches in seconds, and whose they are
    for spoken in said:
        source = sources.get(spoken.recording)
        moment: object = None
        if source is not None and source.sync is not None:
            moment = "set", source.sync.set
            start, end = (
                set_time(source.sync, Fraction(edge_sample, SAMPLE_RATE)) for edge_sample in (spoken.start, spoken.end)
            )
        elif spoken.recording in apart:
            first, samples = apart[spoken.recording]
            moment = "recording", first
            start, end = (Fraction(edge_sample - samples, SAMPLE_RATE) for edge_sample in (spoken.start, spoken.end))
        if moment is not None:
            there = taken.setdefault(moment, [])
            if any(
                2 * (min(end, y) - max(start, sync_start)) > min(end - start, y - sync_start)
                for sync_start, y, r in there
                if r != spoken.recording
            ):
                continue
            there.append((start, end, spoken.recording))
        sentences_once.append(spoken)
    return sentences_once


def _same_words(said: Sequence[Said]) -> dict[int, tuple[int, int]]:
    """Recordings that say word for word what another one says, at one distance: the other one, and that distance in
    samples.

    Nobody tells ALIKE sentences again with the same words in the same time.

    A   [We haul]    [She said]   [Every]
    B      [We haul]    [She said]   [Every]       {A: (A, 0), B: (A, 3)}
    """
    places: dict[str, list[Said]] = {}
    for spoken in said:
        if len(spoken.text.split()) >= 4:
            places.setdefault(spoken.text.casefold(), []).append(spoken)
    distances: dict[tuple[int, int], list[int]] = {}
    for same_places in places.values():
        for one, other in combinations(same_places[:9], 2):
            if one.recording != other.recording:
                first, second = sorted((one, other), key=lambda s: s.recording)
                distances.setdefault((first.recording, second.recording), []).append(second.start - first.start)
    places_found: dict[int, tuple[int, int]] = {}
    for (first_recording, second_recording), rows_apart in sorted(distances.items()):
        middle = sorted(rows_apart)[len(rows_apart) // 2]
        if (
            sum(abs(spoken_apart - middle) <= SAMPLE_RATE // 2 for spoken_apart in rows_apart) >= ALIKE
            and second_recording not in places_found
        ):
            base, shift = places_found.setdefault(first_recording, (first_recording, 0))
            places_found[second_recording] = (base, shift + middle)
    return places_found


def texts_of(data_folder: DataFolder, project: int) -> list[str]:
    """Everything of a project whose meaning is wanted: its sentences, what is noted of shots, and the words that can
    name themes."""
    said_sentences = meanings.said(data_folder.db, project)
    if not said_sentences:
        return []  # there is nothing that a shot could be near to
    often: dict[str, int] = {}
    for spoken in said_sentences:
        for word in words_of(spoken.text):
            often[word] = often.get(word, 0) + 1
    shots = [text for _, text in shot_texts(data_folder, project)]
    return [
        *(content(spoken.text) for spoken in said_sentences),
        *shots,
        *sorted(often, key=lambda w: -often[w])[:WORDS],
    ]


def shot_texts(data_folder: DataFolder, project: int) -> list[tuple[tuple[int, int], str]]:
    """What is noted of each shot: ((recording, first frame), its name, tags, note and own words as a text)."""
    clock = recordings.clock_of(data_folder.db, project)
    recordings_by_id = {
        recording.id: recording
        for recording in recordings.of_project(data_folder.db, project)
        if recording.kind in ("b-roll", "still") and not recording.aside
    }
    texts_of_shots = []
    for recording in recordings_by_id.values():
        heard_sentences = [
            spoken.text
            for spoken in transcripts.sentences_between(data_folder.db, recording.id, 0, 1 << 62)[:SHOT_SAYS]
        ]
        texts_of_shots.append(((recording.id, 0), content(", ".join([recording.name, *heard_sentences]))))
    for subclip in subclips.of_project(data_folder.db, project):
        if subclip.recording in recordings_by_id:
            first, end = (clock.frame_to_sample(edge_frame) for edge_frame in (subclip.start, subclip.end))
            heard_sentences = [
                spoken.text for spoken in transcripts.sentences_between(data_folder.db, subclip.recording, first, end)
            ]
            own_words = [
                subclip.name,
                *subclip.tags,
                subclip.note,
                recordings_by_id[subclip.recording].name,
                *heard_sentences[:SHOT_SAYS],
            ]
            texts_of_shots.append(
                ((subclip.recording, subclip.start), content(", ".join(own_word for own_word in own_words if own_word)))
            )
    return texts_of_shots


def shots_near(data_folder: DataFolder, project: int, said: Sequence[Said]) -> dict[tuple[int, int], float]:
    """How near in meaning each shot (recording, first frame) is to what is said, 0 to 1; what is not worked out is
    not near."""
    asked_vectors = meanings.vectors(data_folder.db, [content(spoken.text) for spoken in said])
    asked_vectors = asked_vectors[asked_vectors.any(1)]
    shots = shot_texts(data_folder, project)
    if not len(asked_vectors) or not shots:
        return {}
    shot_vectors = meanings.vectors(data_folder.db, [text for _, text in shots])
    both = 2 if bool(np.any(asked_vectors[:, MANY:])) else 1
    like = (shot_vectors @ asked_vectors.T / both).max(1)
    return {key: float(max(0.0, likeness)) for (key, _), likeness in zip(shots, like, strict=True)}


def work_out(data_folder: DataFolder, project: int) -> Job | None:
    """Queue working out what is not worked out yet; the job that does, or None where nothing is lacking."""
    open_ = [job for job in jobs.of_project(data_folder.db, project, "meaning") if job.is_open]
    if open_:
        return open_[0]
    lacking = meanings.lacking(data_folder.db, texts_of(data_folder, project))
    if not lacking:
        return None
    folder = data_folder.root / "meanings"
    folder.mkdir(exist_ok=True)
    name = folder / uuid4().hex
    name.with_suffix(".json").write_text(json.dumps(lacking))
    params = {
        "texts": f"{name}.json",
        "out": f"{name}.npy",
        "model": kept_settings.get(data_folder.db, "meaning model"),
    }
    return jobs.add(data_folder.db, project, "meaning", params)


def take_meant(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> str:
    """Keep what a job worked out."""
    texts, vector_file = Path(job.params["texts"]), Path(job.params["out"])
    sentence_vectors = np.load(vector_file)
    meanings.keep(data_folder.db, json.loads(texts.read_text()), sentence_vectors)
    return f"{result['count']} sentences and words"


def clear_up(job: Job) -> None:
    """The files between a job and its worker are not needed any more."""
    for name in ("texts", "out"):
        Path(job.params[name]).unlink(missing_ok=True)


def set_model(data_folder: DataFolder, folder: str) -> None:
    """Use another English model (a folder with model.safetensors, config.json and tokenizer.json that gives as many
    numbers); empty for the one that is installed. Everything is worked out anew."""
    path = Path(folder.strip()).expanduser() if folder.strip() else None
    if path is not None:
        for name in ("model.safetensors", "config.json", "tokenizer.json"):
            if not (path / name).is_file():
                raise Invalid(
                    f"There is no {name} in {folder.strip()[:200]}. "
                    "A model is a folder with model.safetensors, config.json and tokenizer.json."
                )
        try:
            size = json.loads((path / "config.json").read_text()).get("hidden_size")
        except (OSError, ValueError, AttributeError):
            size = None
        if size != ENGLISH:
            raise Invalid(f"That model gives {size or 'no'} numbers a sentence; {ENGLISH} are needed.")
    new = str(path) if path else ""
    if new != kept_settings.get(data_folder.db, "meaning model"):
        kept_settings.put(data_folder.db, "meaning model", new)
        meanings.forget(data_folder.db)


def keep_up(data_folder: DataFolder, seen: dict[int, str]) -> None:
    """Queue what is lacking in every project whose words changed since the last look; not while they are being
    heard."""
    projects_heard = {
        job.project for job in jobs.unfinished(data_folder.db) if job.kind in ("transcribe", "align", "meaning")
    }
    for project in projects.listing(data_folder.db):
        state = f"{meanings.state(data_folder.db, project.id)} {meanings.noted(data_folder.db, project.id)}"
        if not project.archived and project.id not in projects_heard and seen.get(project.id) != state:
            seen[project.id] = state
            work_out(data_folder, project.id)


def search(data_folder: DataFolder, project: int, question: str, limit: int = 20, model: str = "") -> list[Hit]:
    """Sentences for a question: first those with all its words, then those that are near it in meaning. Each
    sentence once."""
    from kovel.media.sentence_vectors import vectors  # the models are read when somebody asks

    question = " ".join(question.split())
    if not question:
        raise Invalid("Type what you look for.")
    if len(question) > 500:
        raise Invalid("That is too long to look for. A sentence is enough.")
    hits: list[Hit] = []
    marked: dict[Said, str] = {}
    for found_sentence in transcripts.search(data_folder.db, project, question, limit):
        spoken = Said(
            found_sentence.recording,
            found_sentence.start,
            found_sentence.end,
            found_sentence.speaker,
            found_sentence.text.replace("\x02", "").replace("\x03", ""),
        )
        marked[spoken] = found_sentence.text
    for index, spoken in enumerate(heard_once(list(marked), recordings.sources(data_folder.db, project))):
        hits.append(Hit(spoken, marked[spoken], "word", round(1 - index / 1000, 3)))
    known = meant(data_folder, project)
    if known.said:
        (asked_vector,) = vectors([content(question)], model or kept_settings.get(data_folder.db, "meaning model"))
        have = {(hit.said.recording, hit.said.start) for hit in hits}
        for sentence_index, score in nearest(asked_vector, known.rows, known.same, question, limit + len(hits)):
            spoken = known.said[sentence_index]
            if (spoken.recording, spoken.start) not in have:
                hits.append(Hit(spoken, spoken.text, "meaning", round(score / 3.5, 3)))
    return hits[:limit]


def more_like(data_folder: DataFolder, project: int, recording: int, start: int, limit: int = 12) -> list[Hit]:
    """Sentences that mean what one of them means."""
    known = meant(data_folder, project)
    sentence_index = next(
        (
            index
            for index, spoken in enumerate(known.said)
            if spoken.recording == recording and spoken.start <= start < spoken.end
        ),
        None,
    )
    if sentence_index is None:
        raise Invalid("There is no sentence there any more.")
    found_near = nearest(known.rows[sentence_index], known.rows, known.same, known.said[sentence_index].text, limit + 1)
    return [
        Hit(known.said[this_sentence_index], known.said[this_sentence_index].text, "meaning", round(likeness / 3.5, 3))
        for this_sentence_index, likeness in found_near
        if this_sentence_index != sentence_index
    ][:limit]
