"""Build each interview's sound and its truth: `python speech.py OUTDIR` -> <who>.wav, <who>.json (48 kHz, seconds).

Pauses, an "um" opened with a pause, false starts, questions off camera at -33 dB, a fan under Tobin. Word times come
from aligning the known text of each utterance to its known stretch of sound (pocketsphinx), so the ends are exact.
"""
import json
import re
import sys

import numpy as np
import pocketsphinx as ps
import scipy.signal as sg
import soundfile as sf
from voices import SR, say

rng = np.random.default_rng(7)
Q, S, F, P = "question", "say", "false", "pause"
SCRIPTS = {
    "maren": [
        (Q, "Tell me about the first winter you kept the ferry."), (P, 1.3), (F, "Well, um, the first winter I was,"), (P, 0.7),
        (S, "The first winter, I was twenty three, and nobody thought I would last."), (P, 0.8),
        (S, "We haul the ferry across by hand, two of us on the chain, and the tide does the rest."), (P, 1.6),
        (S, "And, um, in winter the creek runs fast and brown, and you learn to wait for it."), (P, 2.2),
        (Q, "Did you ever think of giving it up?"), (P, 1.0), (S, "Every February."), (P, 0.9),
        (S, "My mother kept this crossing for thirty years before me, and she never once trusted the engine."), (P, 0.7),
        (S, "She said the chain tells you things."), (P, 0.5), (S, "You feel the bottom of the creek through your hands."), (P, 1.8),
        (F, "Well, um, there was a night in, it was"), (P, 0.9),
        (S, "There was one night, in the big flood, when the bell on the far bank would not stop ringing."), (P, 0.8),
        (S, "I went over alone."), (P, 1.4), (S, "I have never told anyone how frightened I was."), (P, 2.0),
    ],
    "tobin": [
        (Q, "How did you come to build boats?"), (P, 1.1), (F, "Well, um, my father was, my"), (P, 0.6),
        (S, "The man I learned from never drew a line on paper."), (P, 0.7),
        (S, "He would run his thumb along the plank and tell you where it leaked."), (P, 1.6),
        (S, "The ferry is the oldest thing I look after."), (P, 0.6),
        (S, "Every spring we haul her out, and every spring I find something I should have seen the year before."), (P, 1.9),
        (Q, "And the big wheel?"), (P, 0.9),
        (S, "When the new wheel came down the river on a barge, half the village walked out to see it."), (P, 0.8),
        (S, "Somebody rang the bell."), (P, 1.2), (S, "It took, um, eleven of us to lift it, and Maren counted."), (P, 1.5),
        (S, "Wood forgives you, if you listen to it."), (P, 0.7), (S, "Iron does not."), (P, 1.8),
        (S, "People ask me why we never put a motor on her."), (P, 0.7),
        (S, "I tell them she already has one, and it comes in twice a day."), (P, 1.6),
        (S, "I am the last one on this creek who can fit a plank by eye."), (P, 0.9),
        (S, "So I write it down now, every evening, for whoever comes."), (P, 2.0),
    ],
    "odile": [
        (Q, "What is the bell for?"), (P, 1.0), (S, "You ring it when you want to cross."), (P, 0.8),
        (S, "Once for a person, twice for a cart, and three times for the doctor."), (P, 1.7),
        (S, "I cross every morning with the school children, and, um, they count the strokes."), (P, 1.3),
        (F, "The year of the flood we, the year"), (P, 0.6),
        (S, "The year of the flood we lost the lower landing, and the bell with it."), (P, 0.9),
        (S, "They found it in the reeds, a mile down, still hanging from its post."), (P, 2.1),
        (Q, "Would a bridge be better?"), (P, 1.2), (S, "A bridge would be quicker."), (P, 1.1),
        (S, "But on the ferry you have to wait, and while you wait you talk to people."), (P, 0.8),
        (S, "I learned most of what I know about this place in the middle of the creek."), (P, 1.6),
        (S, "Last autumn we painted the tide marks again, so that the little ones can read them."), (P, 1.0),
        (S, "Each one has a name beside it, and, um, the highest one is Maren's."), (P, 2.0),
    ],
}
FAN = {"tobin": -44.0}
SAY_AS = {"odile": None, "maren": "M EH R AH N", "maren's": "M EH R AH N Z"}


def speech_level(a, db):
    """Scale so that the voiced part has this RMS in dBFS."""
    loud = a[np.abs(a) > 0.02 * np.abs(a).max()]
    return a * (10 ** (db / 20) / np.sqrt(np.mean(loud**2)))


def off_mic(a):
    """Further away: room, no lows, no highs."""
    n = int(0.25 * SR)
    ir = rng.standard_normal(n) * np.exp(-np.arange(n) / (0.05 * SR))
    ir[0] = 6
    return sg.lfilter(*sg.butter(2, [150, 3200], "band", fs=SR), sg.fftconvolve(a, ir)[: len(a) + int(0.2 * SR)])


def fan(n, db):
    """Steady fan: shaped noise and two blade tones."""
    x = sg.lfilter(*sg.butter(1, 400, fs=SR), rng.standard_normal(n))
    t = np.arange(n) / SR
    x = x / x.std() + 0.5 * np.sin(2 * np.pi * 118 * t + 0.3 * np.sin(2 * np.pi * 0.7 * t)) + 0.2 * np.sin(2 * np.pi * 236 * t)
    return x / x.std() * 10 ** (db / 20)


def align(a, text):
    """Word times of `text` in `a`: [(word, start s, end s)]; by length where the aligner gives up."""
    shown = text.split()
    keys = [re.sub(r"[^a-z']", "", w.lower()) for w in shown]
    pcm = (np.clip(sg.resample_poly(a, 1, 3) * 3, -1, 1) * 32767).astype(np.int16).tobytes()
    try:
        d = ps.Decoder(samprate=16000, loglevel="FATAL")
        for k in keys:
            if d.lookup_word(k) is None:
                d.add_word(k, SAY_AS.get(k) or "AH", True)
        d.set_align_text(" ".join(keys))
        d.start_utt()
        d.process_raw(pcm, full_utt=True)
        d.end_utt()
        got = [(s.start_frame / 100, (s.end_frame + 1) / 100) for s in d.seg() if s.word in keys or re.sub(r"\(\d+\)", "", s.word) in keys]
        if len(got) == len(shown):
            return [(w, s, e) for w, (s, e) in zip(shown, got)]
    except (RuntimeError, ValueError) as why:
        print("  by length:", text, why)
    w = np.cumsum([0] + [len(k) + 1 for k in keys]) / sum(len(k) + 1 for k in keys) * len(a) / SR
    return [(x, float(w[i]), float(w[i + 1])) for i, x in enumerate(shown)]


def open_pause(a, words, gap):
    """Silence after the word "um", as people do; returns the sound and shifted words."""
    i = next(k for k, w in enumerate(words) if w[0].startswith("um"))
    e = np.sqrt(np.convolve(a**2, np.ones(960) / 960, "same"))
    lo, hi = int(words[i][2] * SR) - 3000, int(words[i][2] * SR) + 9000
    k = lo + int(np.argmin(e[lo:hi]))
    out = np.concatenate([a[:k], np.zeros(int(gap * SR)), a[k:]])
    return out, words[:i] + [(words[i][0], words[i][1], k / SR)] + [(w, max(s, k / SR) + gap, t + gap) for w, s, t in words[i + 1 :]]


def build(who):
    out, words, marks, t = [np.zeros(int(0.8 * SR))], [], [], 0.8
    for kind, x in SCRIPTS[who]:
        if kind == P:
            a = np.zeros(int(x * SR))
            marks.append({"kind": "pause", "start": t, "end": t + x})
        else:
            dry = say("interviewer" if kind == Q else who, x)
            said = align(dry, x)
            if kind == F:  # broken off
                dry = dry[: int(len(dry) * 0.93)]
                dry[-480:] *= np.linspace(1, 0, 480)
                said = [(w, s, min(e, len(dry) / SR)) for w, s, e in said if s + 0.02 < len(dry) / SR]
            if " um," in x:
                dry, said = open_pause(dry, said, 0.4)
            a = speech_level(off_mic(dry), -33) if kind == Q else speech_level(dry, -22)
            speaker = "interviewer" if kind == Q else who
            words += [{"text": w, "start": round(t + s, 3), "end": round(t + e, 3), "speaker": speaker} for w, s, e in said]
            marks.append({"kind": kind, "start": t, "end": t + len(a) / SR, "text": x})
            marks += [{"kind": "um", "start": t + s, "end": t + e} for w, s, e in said if w.startswith("um")]
        out.append(a)
        t += len(a) / SR
    a = np.concatenate(out)
    a = a + rng.standard_normal(len(a)) * 10 ** (-66 / 20)
    if who in FAN:
        a = a + fan(len(a), FAN[who])
    for m in marks:
        m["start"], m["end"] = round(m["start"], 3), round(m["end"], 3)
    return np.clip(a, -0.98, 0.98), {"words": words, "events": marks, "fan_dbfs": FAN.get(who)}


if __name__ == "__main__":
    for who in sys.argv[2:] or SCRIPTS:
        a, truth = build(who)
        sf.write(f"{sys.argv[1]}/{who}.wav", a.astype(np.float32), SR, subtype="PCM_16")
        json.dump(truth, open(f"{sys.argv[1]}/{who}.json", "w"), indent=1)
        print(who, round(len(a) / SR, 1), "s,", len(truth["words"]), "words", flush=True)
