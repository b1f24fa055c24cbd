"""A delivered file listened to and looked at, as the person who gets it would: nothing here reads what Kovel made of
the recordings, only the film itself, the recordings' own files, and the story.

words      the recogniser's, out of the film's sound, against those of the story, in order and in time
pictures   each shot's first and last frame against the frame of the recording's file that the story has there
music      how loud it is under the words, by what of the film's sound the music's own file explains
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import av
import numpy as np

from kovel.core.plan.layers import Layer, Run, own_frame
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.data_folder import DataFolder
from kovel.media.child import call
from kovel.media.reader import FrameReader
from kovel.media.title_pictures import drawn_title
from kovel.services.handoff.captioning import said
from kovel.services.single_file import ready
from kovel.store import recordings, stories

SMALL = (64, 36)


@dataclass(frozen=True)
class Delivered:
    """A film, and the story that it was made of."""

    path: Path
    data: DataFolder
    kept: stories.Kept

    @property
    def plan(self) -> Plan:
        return make_plan(self.kept.story, recordings.sources(self.data.db, self.kept.project))


def plain(text: str) -> str:
    return re.sub(r"[^\w]", "", text.lower().replace("’", "'").replace("'", ""))


def words_heard(film: Path) -> list[tuple[str, float]]:
    """Words and their beginnings in seconds, as the recogniser hears them in a file."""
    with ready(film) as sound:
        rows = call(
            "transcribe",
            {"out": str(sound.folder), "channels": sound.channels, "model": "", "names": [], "language": "en"},
        )["words"]
    return [(plain(text), start / SAMPLE_RATE) for text, start, *_ in rows if plain(text)]


def heard_share(film: Delivered, off: float = 0.3) -> tuple[float, list[str]]:
    """How many of the story's words are heard in the film, in their order and within `off` seconds of their place;
    and the others."""
    rate = film.kept.story.rate
    spoken = [
        x for x in said(film.data, film.kept) if plain(x.word.text) and not x.word.text.startswith("[")
    ]  # no [voice]
    want = [(plain(x.word.text), float(x.at / rate.fps)) for x in spoken]
    have = words_heard(film.path)
    found: set[int] = set()
    for m in SequenceMatcher(None, [w for w, _ in want], [w for w, _ in have], autojunk=False).get_matching_blocks():
        found |= {m.a + k for k in range(m.size) if abs(want[m.a + k][1] - have[m.b + k][1]) <= off}
    missing = [f"{word} at {at:.1f}" for i, (word, at) in enumerate(want) if i not in found]
    return len(found) / max(1, len(want)), missing


def luma(frame: av.VideoFrame) -> np.ndarray:
    """A picture small and grey, without bars or titles in its way: (36, 64) floats."""
    return np.asarray(frame.reformat(*SMALL, "gray8").to_ndarray(), float)


def film_frames(film: Path) -> list[np.ndarray]:
    """Every frame of a film, small and grey."""
    with av.open(str(film)) as c:
        c.streams.video[0].thread_type = "AUTO"
        return [luma(f) for f in c.decode(video=0)]


def alike(a: np.ndarray, b: np.ndarray) -> float:
    """How alike two pictures are whatever their brightness and contrast: their correlation."""
    return float(np.corrcoef(a.ravel(), b.ravel())[0, 1])


def bare(run: Run) -> Layer | None:
    """The one recording that a run shows, if it shows one under its titles, whole and without a frame of its own."""
    layers = [x for x in run.layers if not x.image.title]
    if len(layers) != 1 or layers[0].image.source is None or layers[0].image.stack or layers[0].opacity.step:
        return None
    return layers[0]


def wrong_pictures(film: Delivered, shown: Sequence[np.ndarray], least: float = 0.8) -> list[str]:
    """Shots whose first or last frame is not the recording's frame that the story has there. Where the recording
    moves, the frame itself, and not the one before or behind it, is the most alike."""
    plan, wrong = film.plan, []
    if len(shown) != plan.length:
        wrong.append(f"{len(shown)} frames, not {plan.length}")
    readers: dict[int, FrameReader] = {}
    for run in plan.pictures:
        layer = bare(run)
        if layer is None or layer.image.source is None:
            continue
        r = recordings.get(film.data.db, layer.image.source)
        if r.frames is None:
            continue
        if r.id not in readers:
            readers[r.id] = FrameReader(Path(r.path), r.rate)
        for t in sorted({run.at, run.end - 1}):
            own = own_frame(layer.image, t - run.at, plan.rate, r.rate)
            near = {
                n: alike(luma(readers[r.id].get(n)), shown[t]) for n in (own - 8, own, own + 8) if 0 <= n < r.frames
            }
            if near[own] < least or near[own] < max(near.values()) - 0.01:
                wrong.append(f"{t}: {r.name} frame {own} ({near})")
    for reader in readers.values():
        reader.close()
    return wrong


def late_cuts(film: Delivered, shown: Sequence[np.ndarray]) -> list[str]:
    """Cuts between different recordings that are not seen exactly where the story has them: the picture changes
    there, and not a frame earlier or later."""
    out = []
    step = [0.0, *(float(np.abs(b - a).mean()) for a, b in pairwise(shown))]
    rows = [(r, bare(r)) for r in film.plan.pictures]
    for (_, left), (r, right) in pairwise(rows):
        if left is None or right is None or left.image.source == right.image.source:
            continue
        t = r.at
        if step[t] < 2 * max(step[t - 1], step[min(t + 1, len(step) - 1)]):
            out.append(f"{t}: {step[t - 1]:.1f} {step[t]:.1f} {step[t + 1]:.1f}")
    return out


def missing_titles(film: Delivered) -> list[str]:
    """Titles whose letters are not on the picture in their middle, or stand there still a few frames before and
    behind them."""
    story, out = film.kept.story, []
    with av.open(str(film.path)) as c:
        size = c.streams.video[0].width, c.streams.video[0].height
    plan = film.plan
    spans = [(story.at(x), story.at(x) + x.length, x) for x in story.covers if x.title]
    need = {t for a, b, _ in spans for t in (a - 3, (a + b) // 2, b + 2) if 0 <= t < story.length}
    frames: dict[int, np.ndarray] = {}
    with av.open(str(film.path)) as c:
        for t, f in enumerate(c.decode(video=0)):
            if t in need:
                frames[t] = f.to_ndarray(format="gray8").astype(float)
    for a, b, title in spans:
        run = plan.picture_at((a + b) // 2)
        spec = next(
            dict(x.image.title.rows)
            for x in run.layers
            if x.image.title and dict(x.image.title.rows)["text"] == title.title
        )
        letters = np.asarray(drawn_title(spec, *size).convert("RGBA"), float)
        ink, where = letters[..., :3].mean(-1), letters[..., 3] > 240
        off = {
            t: float(np.abs(frames[t][where] - ink[where]).mean()) for t in (a - 3, (a + b) // 2, b + 2) if t in frames
        }
        middle = off.pop((a + b) // 2)
        if middle > 12 or any(x < middle + 15 for x in off.values()):
            out.append(f"{title.title!r}: {middle:.0f}, outside {off}")
    return out


def sound_of(path: Path) -> np.ndarray:
    """The sound of any file as one channel of floats at 48 kHz."""
    with av.open(str(path)) as c:
        resample = av.AudioResampler("flt", "mono", SAMPLE_RATE)
        out = [g.to_ndarray().ravel() for f in c.decode(audio=0) for g in resample.resample(f)]
        out += [g.to_ndarray().ravel() for g in resample.resample(None)]
    return np.concatenate(out)


def music_over_speech(film: Delivered, apart: float = 6.0) -> tuple[list[str], int]:
    """Half seconds full of words in which the music is not at least so many dB under all that is heard; and how many
    there are with words and music. How loud the music is there is what of the film's sound its own file explains
    (least squares)."""
    mix, out, both = sound_of(film.path), [], 0
    rate: Rate = film.kept.story.rate
    files: dict[int, np.ndarray] = {}
    talking = np.zeros(int(2 * film.plan.length / rate.fps) + 2)
    for x in said(film.data, film.kept):
        a, b = 2 * float(x.at / rate.fps), 2 * float(x.end / rate.fps)
        for k in range(int(a), int(b) + 1):
            talking[k] += max(0.0, min(b, k + 1) - max(a, k))
    spoken = np.flatnonzero(talking > 0.6).tolist()
    for h in film.plan.sounds:
        r = recordings.get(film.data.db, h.source)
        if r.kind != "music":
            continue
        if r.id not in files:
            files[r.id] = sound_of(Path(r.path))
        for k in spoken:
            a, b = k * SAMPLE_RATE // 2, (k + 1) * SAMPLE_RATE // 2
            if a < h.at or b > h.end:
                continue
            x, y = files[r.id][h.start + a - h.at : h.start + b - h.at], mix[a:b]
            if len(x) < len(y) or not (x**2).sum():
                continue
            both += 1
            music = ((x @ y) / (x @ x)) ** 2 * float((x**2).mean())
            whole = float((y**2).mean())
            if music > whole / (10 ** (apart / 10)) and 10 * np.log10(whole) > -40:
                out.append(f"{Fraction(k, 2)} s: music {10 * np.log10(music):.1f}, whole {10 * np.log10(whole):.1f} dB")
    return out, both
