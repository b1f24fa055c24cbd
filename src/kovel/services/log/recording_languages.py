"""The language of a recording, and the editor's own lists of what it says without meaning it and how it asks."""

from dataclasses import replace

from kovel.core.errors import Invalid
from kovel.core.words.languages import NAMES, Language, language
from kovel.data_folder import DataFolder
from kovel.store import kept_settings
from kovel.store.recordings import Recording

LISTS = ("fillers", "asking")  # of a language, that can be changed
BY_NAME = sorted(NAMES.items(), key=lambda kv: kv[1])  # every language that can be heard: code and name


def of_code(data_folder: DataFolder, code: str) -> Language:
    """What is known of a language, with the editor's lists where there are such."""
    known = language(code or "en")

    def own(which: str, at_first: tuple[str, ...]) -> tuple[str, ...]:
        return (
            tuple(word for word in kept_settings.get(data_folder.db, _key(which, known.code)).split("\n") if word)
            or at_first
        )

    return replace(known, fillers=own("fillers", known.fillers), asking=own("asking", known.asking))


def spoken(data_folder: DataFolder, recording: Recording) -> Language:
    """The language of a recording; English where nothing is known of it."""
    return of_code(data_folder, recording.tongue)


def set_list(data_folder: DataFolder, which: str, code: str, text: str) -> None:
    """The editor's own list for a language, with commas or lines between; nothing: the one that Kovel begins with."""
    asked_words = list(
        dict.fromkeys(
            " ".join(word.split()).lower()[:40] for word in text.replace(",", "\n").split("\n") if word.strip()
        )
    )
    before = getattr(language(code), which)
    kept_settings.put(
        data_folder.db, _key(which, code), "" if tuple(asked_words) == before else "\n".join(asked_words[:200])
    )


def _key(which: str, code: str) -> str:
    return which if code == "en" else f"{which} {code}"


def code_of(said: str) -> str:
    """The code of a language by its code or English name; empty for none, found by itself. `Invalid` for what is no
    language."""
    text = said.strip().casefold()
    if text in ("", "auto") or text in NAMES:
        return "" if text == "auto" else text
    for code, name in NAMES.items():
        if name.casefold() == text:
            return code
    raise Invalid(
        f"“{said.strip()[:40]}” is no language that can be heard. Say it as a code (fr) or in English (French)."
    )


def choices(recording: Recording) -> list[tuple[str, str]]:
    """What can be chosen for a recording: code and name, first what is found by itself."""
    found_language = f"by itself ({language(recording.spoken).name})" if recording.spoken else "by itself"
    return [("", found_language), *BY_NAME]
