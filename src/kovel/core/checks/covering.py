"""Which shots could cover what is being said: those near in meaning first, not used yet, steady, and long enough.

words     |We |haul |it |by |hand.|The |tide ...
asked              ^                               at the playhead: the whole sentence
cover     [────────────────────)                   the steadiest stretch of the shot that is as long
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from kovel.core.checks.offers import Offer, Shot, meeting_in_words, stems, use_in_words, worth_of
from kovel.core.picture.shots import Look, best_stretch
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.core.words.writing import ends

MOST = 8  # shots that are offered
LONGEST = 12  # seconds of what is covered at once; b-roll usually stands 3 to 4 s (common practice, no source)
TURN = 1.5  # seconds without a word after which another sentence begins


def sentence_around(words: Sequence[tuple[int, int, Word]], at: int, frame_rate: Rate) -> tuple[int, int] | None:
    """Story frames [a, b) of the sentence that is heard at a frame, or of the next one; None where nothing more is
    said.

    `words` by time: first frame in the story, end, word. A sentence goes on over cuts, as it is heard.
    """
    here = next((index for index, (_, b, _) in enumerate(words) if b > at), None)
    if here is None:
        return None
    most, turn = LONGEST * frame_rate.fps, TURN * float(frame_rate.fps)

    def apart(i: int) -> bool:
        """Whether another sentence begins with word i + 1."""
        (_, b, word), (a, _, after) = words[i], words[i + 1]
        return ends(word.text) or a - b >= turn or word.speaker != after.speaker

    first = last = here
    while first > 0 and not apart(first - 1) and words[here][1] - words[first - 1][0] <= most:
        first -= 1
    while last + 1 < len(words) and not apart(last) and words[last + 1][1] - words[first][0] <= most:
        last += 1
    return words[first][0], words[last][1]


def covers_for(
    span: tuple[int, int], frame_rate: Rate, shots: Iterable[Shot], said: str, looks: Mapping[int, tuple[Look, Rate]]
) -> list[Offer]:
    """Shots to cover story frames `span`, best first, each as a command that lays its steadiest stretch there.

    `said` is what is heard there; `looks` what is known of recordings from frame to frame, with their rates.
    """
    begin, end = span
    need, met_with = end - begin, stems(said)
    offered_covers = []
    for shot in shots:
        length = min(need, shot.length)
        if length < 1:
            continue
        start, steady = _steadiest(shot, length, frame_rate, looks)
        shared, short = stems(shot.text) & met_with, 1 - length / need
        score = worth_of(shot, shared) - 2.0 * short + ((steady or 0.5) - 0.5)
        why = [
            meeting_in_words(shot, shared),
            use_in_words(shot),
            "shaky" if steady is not None and steady < 0.6 else "",
            f"{(need - length) / float(frame_rate.fps):.1f} s too short" if short else "",
        ]
        params = {"source": shot.source, "at": begin, "until": begin + length, "start": start}
        offered_covers.append(
            Offer("cover", shot.name, ", ".join(word for word in why if word), "lay_cover", params, score)
        )
    return sorted(offered_covers, key=lambda o: -o.score)[:MOST]


def _steadiest(
    shot: Shot, length: int, frame_rate: Rate, looks: Mapping[int, tuple[Look, Rate]]
) -> tuple[int, float | None]:
    """Where the steadiest stretch of `length` story frames begins in a shot, and how steady it is from 0 to 1; a third
    of what is to spare behind its beginning, and None, where nothing is known of it."""
    if shot.source in looks:
        look_there, own_motion = looks[shot.source]
        per_frame = float(own_motion.fps / frame_rate.fps)
        first, last = round(shot.start * per_frame), round((shot.start + shot.length) * per_frame)
        look_part = Look(look_there.bright[first:last], look_there.steady[first:last], look_there.change[first:last])
        seconds = length / float(frame_rate.fps)
        if (best := best_stretch(look_part, float(own_motion.fps), (seconds, seconds))) and best[1] - best[0] > 0:
            start = min(shot.start + round(best[0] / per_frame), shot.start + shot.length - length)
            return start, float(look_part.steady[best[0] : best[1]].mean())
    return shot.start + max(0, shot.length - length) // 3, None
