"""What talk can do without besides pauses: fillers, false starts, repeats, and the interviewer's questions.

words      Well, um, the first winter I was, the first winter, I was …
proposed         ~~~ ~~~~~~~~~~~~~~~~~~~~~~
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right, insort
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from kovel.core.sound.levels import TICK, Levels, Mask, runs
from kovel.core.sound.pauses import VOICE, Pause, Settings, speech
from kovel.core.words.languages import ENGLISH, Language, asked
from kovel.core.words.transcript import Sentence, Word, sentences
from kovel.core.words.writing import ends, plain, together

PROPOSAL_KINDS = ("pause", "filler", "voice", "repeat", "false start", "question")
FAR, SPREAD = 5.0, 2.5  # dB: how much softer somebody off camera is, and how much a voice changes by itself at most
NUDGE = 2_400  # samples of air a cut keeps around the words beside it, where there is room


@dataclass(frozen=True, slots=True)
class Proposal:
    """Samples [start, end) that could be taken out: what it is, why, and how sure (0 to 1).

    `anchor` is where what it stands for begins (a pause, with its air): it stays when settings change the edges.
    """

    start: int
    end: int
    kind: str
    why: str
    sure: float
    anchor: int = -1


def proposals(found_pauses: Sequence[Pause], settings: Settings, of_words: Sequence[Proposal] = ()) -> list[Proposal]:
    """All that is proposed, in order of time; nothing overlaps. `of_words` is what `word_proposals` gives, which no
    setting of the pauses changes."""
    pause_proposals = [
        Proposal(
            cut_there[0],
            cut_there[1],
            "pause",
            f"{(pause.end - pause.start) / 48000:.1f} s without speech",
            pause.sure,
            pause.start,
        )
        for pause in found_pauses
        if (cut_there := pause.cut(settings))
    ]
    return _apart([*pause_proposals, *of_words])


def word_proposals(
    words: Sequence[Word], levels: Levels | None = None, of: Language = ENGLISH, interviewer: str = "interviewer"
) -> list[Proposal]:
    """What the words of a language themselves propose: fillers, voiced sounds, repeats, false starts, the
    interviewer."""
    return [*_fillers(words, of.fillers), *_repeats(words, of), *questions(words, levels, interviewer, of)]


def _apart(sorted_proposals: Sequence[Proposal]) -> list[Proposal]:
    """Without overlaps: questions before false starts before words before pauses; a pause is cut down to what is
    left."""
    rank = {"question": 0, "false start": 1, "repeat": 2, "filler": 3, "voice": 4, "pause": 5}
    all_proposals: list[Proposal] = []  # by time, no two overlapping
    for proposal in sorted(sorted_proposals, key=lambda p: (rank[p.kind], p.start)):
        index = bisect_right(all_proposals, proposal.start, key=lambda o: o.end)
        place = bisect_left(all_proposals, proposal.end, key=lambda o: o.start)
        proposals_left = kept(
            proposal.start, proposal.end, [(proposal.start, proposal.end) for proposal in all_proposals[index:place]]
        )
        fits = [
            (start, end)
            for start, end in proposals_left
            if end - start >= 4 * TICK and (proposal.kind == "pause" or (start, end) == (proposal.start, proposal.end))
        ]
        for start, end in fits:
            insort(all_proposals, replace(proposal, start=start, end=end), key=lambda o: o.start)
    return all_proposals


def _around(words: Sequence[Word], i: int, j: int) -> tuple[int, int]:
    """The stretch that words i to j (exclusive) can leave with: up to the next word's start, less a little air."""
    start, end = words[i].start, words[j - 1].end
    if j < len(words) and words[j].start - end < 24_000:
        end = max(end, words[j].start - NUDGE)
    return start, end


def _fillers(words: Sequence[Word], fillers: Sequence[str]) -> list[Proposal]:
    lists = sorted(
        ([plain(word) for word in filler.split()] for filler in fillers if filler.strip()), key=len, reverse=True
    )
    said_words = [plain(word.text) for word in words]
    all_proposals: list[Proposal] = []
    word_index = 0
    while word_index < len(words):
        if words[word_index].text == VOICE:
            all_proposals.append(
                Proposal(*_around(words, word_index, word_index + 1), "voice", "a voiced sound without a word", 0.5)
            )
            word_index += 1
            continue
        hit = next(
            (
                filler_list
                for filler_list in lists
                if filler_list and said_words[word_index : word_index + len(filler_list)] == filler_list
            ),
            None,
        )
        if hit is None:
            word_index += 1
            continue
        alone = (
            len(hit) == 1
            or words[word_index + len(hit) - 1].text[-1:] in ",.…"
            or (word_index > 0 and words[word_index - 1].text[-1:] in ",.…")
        )
        all_proposals.append(
            Proposal(
                *_around(words, word_index, word_index + len(hit)),
                "filler",
                f"“{' '.join(hit)}”",
                0.9 if len(hit) == 1 else 0.7 if alone else 0.4,
            )
        )
        word_index += len(hit)
    return all_proposals


def _repeats(words: Sequence[Word], of: Language) -> list[Proposal]:
    """Words said twice in a row, and sentences begun twice: the first time goes, the second stays.

    `the first winter I was, the first winter, I was` : the first five words go.
    """
    said_words = [plain(word.text) for word in words]
    skip = {plain(VOICE)} | {plain(filler) for filler in of.fillers}
    all_proposals: list[Proposal] = []
    word_index = 0
    while word_index < len(words):
        found_repeat = (
            _said_again(words, said_words, word_index, skip, of)
            if said_words[word_index] in said_words[word_index + 1 : word_index + 12]
            else None
        )
        if found_repeat is None:
            word_index += 1
            continue
        count, again = found_repeat
        text = together(word.text for word in words[word_index:again]).rstrip(",.")
        kind = "false start" if count >= 2 or again - word_index > count else "repeat"
        start, end = words[word_index].start, max(words[again - 1].end, words[again].start - NUDGE)
        all_proposals.append(Proposal(start, end, kind, f"“{text}” is said again", 0.85 if count >= 2 else 0.7))
        word_index = again
    return all_proposals


def _said_again(words: Sequence[Word], said: list[str], i: int, skip: set[str], of: Language) -> tuple[int, int] | None:
    """How many words from i on come again, at most six, and where: (how many, index of the first). None if none do."""
    for count in range(6, 0, -1):
        head = said[i : i + count]
        if len(head) < count or any(word in skip or not word for word in head):
            continue
        if count == 1 and head[0] in of.doubled:
            continue
        for given_up in range(0, 6 if count >= 2 else 2):  # words between
            again = i + count + given_up
            if said[again : again + count] != head:
                continue
            between = said[i + count : again]
            if (count > 1 or all(word in skip for word in between)) and _one_breath(words, i, again):
                return count, again
    return None


def _one_breath(words: Sequence[Word], i: int, again: int) -> bool:
    """Whether the words at both indices are of one speaker, within eight seconds, with no sentence ended between."""
    if words[i].speaker != words[again].speaker or words[again].start - words[i].start > 48_000 * 8:
        return False
    return not any(ends(word.text) for word in words[i:again])


def questions(
    words: Sequence[Word], levels: Levels | None, interviewer: str = "interviewer", of: Language = ENGLISH
) -> list[Proposal]:
    """What the interviewer says: by the speaker's name; else what stands farther from the microphone and asks
    (`_farther`), or a question that is much softer than the talk around it."""
    spoken_sentences = sentences([word for word in words if word.text != VOICE])
    if any(word.speaker == interviewer for word in words):
        own_sentences = [sentence for sentence in spoken_sentences if sentence.speaker == interviewer]
        return _joined(
            Proposal(said_sentence.start, said_sentence.end, "question", "the interviewer speaks", 0.95)
            for said_sentence in own_sentences
        )
    if levels is None or not spoken_sentences:
        return []
    asks = [asked(sentence.text, of) for sentence in spoken_sentences]
    loud = [_level(levels, sentence.start, sentence.end) for sentence in spoken_sentences]
    usual = float(np.median(np.repeat(loud, [sentence.count for sentence in spoken_sentences])))
    far = _farther(asks, loud)
    rated = ((sentence, usual - loud[n], asks[n], n in far) for n, sentence in enumerate(spoken_sentences))
    return _joined(
        _question(*one)
        for one in rated
        if one[3] or one[1] > (7 if one[2] else 10)  # dB softer than usual
    )


def _question(sentence: Sentence, softer: float, asks: bool, is_far: bool) -> Proposal:
    why = f"{'a question, ' if asks else ''}{softer:.0f} dB softer than the talk around it"
    return Proposal(sentence.start, sentence.end, "question", why, (0.8 if asks else 0.6) + (0.1 if is_far else 0))


def _joined(all_proposals: Iterable[Proposal]) -> list[Proposal]:
    """Questions less than a second apart as one."""
    joined: list[Proposal] = []
    for proposal in all_proposals:
        if joined and proposal.start - joined[-1].end < 48_000:
            last = joined[-1]
            sure = min(last.sure, proposal.sure)
            joined[-1] = Proposal(last.start, proposal.end, "question", last.why, sure)
        else:
            joined.append(proposal)
    return joined


def _farther(asks: Sequence[bool], loud: Sequence[float]) -> set[int]:
    """Which sentences are of somebody off camera: the softer of two groups of loudness (Otsu 1979), if they lie clearly
    apart and the softer ones ask.

    dBFS   -33 ∙∙          -25 ∙∙∙∙∙∙∙∙       two groups, FAR dB apart, each narrower than SPREAD
    asks       ??              ∙∙∙∙∙?∙∙
    """
    loudness = np.asarray(loud)
    if len(loudness) < 4:
        return set()
    order = np.argsort(loudness)
    within = [
        part_count * loudness[order[:part_count]].var()
        + (len(loudness) - part_count) * loudness[order[part_count:]].var()
        for part_count in range(1, len(loudness))
    ]
    best_count = 1 + int(np.argmin(within))
    soft, rest = order[:best_count], order[best_count:]
    if (
        loudness[rest].mean() - loudness[soft].mean() < FAR
        or np.sqrt(min(within) / len(loudness)) > SPREAD
        or best_count > len(rest)
    ):
        return set()
    of_soft, of_rest = (float(np.mean([asks[word_index] for word_index in group])) for group in (soft, rest))
    return {int(word_index) for word_index in soft} if of_soft >= 1 / 3 and of_soft > of_rest + 0.2 else set()


def _level(levels: Levels | None, start: int, end: int) -> float:
    if levels is None:
        return 0.0
    clip_level = levels.level[start // TICK : max(start // TICK + 1, end // TICK)]
    return float(np.percentile(clip_level, 75)) if len(clip_level) else 0.0


def kept(start: int, end: int, out: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """What of [start, end) is left when the stretches `out` are taken away, in order.

    [-----~~~-----~~----]  ->  [-----) [-----) [----)
    """
    kept_proposals = []
    at = start
    for begin, until in sorted(out):
        begin, until = max(begin, start), min(until, end)
        if until <= at or begin >= end:
            continue
        if begin > at:
            kept_proposals.append((at, begin))
        at = until
    if at < end:
        kept_proposals.append((at, end))
    return kept_proposals


def voiced_between(levels: Levels, words: Sequence[Word], least: float = 0.16, mask: Mask | None = None) -> list[Word]:
    """Stretches in which somebody speaks and no word stands: fillers and false starts a recogniser dropped.

    speech  ████████ ████   ███████
    words   [we   ]          [haul ]
    found            [voice]
    """
    talking = speech(levels) if mask is None else mask
    talking_left = talking.copy()
    for word in words:
        talking_left[max(0, word.start // TICK - 2) : word.end // TICK + 3] = False
    starts, ends = runs(talking_left)
    voiced_spans = []
    for a, b in zip(starts.tolist(), ends.tolist(), strict=True):
        if b - a >= least * 100:
            voiced_spans.append(Word(VOICE, a * TICK, b * TICK))
    return voiced_spans
