"""What the numbers of a picture mean, and how every kind becomes BT.709 as Kovel shows and delivers it.

Code points are those of ITU-T H.273: matrix, primaries and transfer as containers and codecs write them; 2 is
"unspecified".

    coded picture --matrix, range--> coded RGB --table, where it differs--> RGB as in BT.709 --> BT.709, limited

Standard-definition primaries (SMPTE C, EBU) and transfers count as those of BT.709: they differ little, and what
carries the tag was seldom made on such a tube (common practice, no source).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]

UNSPECIFIED = 2
BT709, BT2020 = 1, 9  # as matrix and as primaries
P3 = (11, 12)  # primaries of SMPTE RP 431-2 and EG 432-1
LINEAR, PQ, HLG = 8, 16, 18
MATRICES = {1: "bt709", 4: "fcc", 5: "bt601", 6: "bt601", 7: "smpte240m", 9: "bt2020", 10: "bt2020"}
RGB_MATRIX = 0
PEAK = 1000.0  # cd/m2: the display that HLG and most PQ is graded for (BT.2100, BT.2408)
GAMMA = 2.4  # of an SDR display (BT.1886)


@dataclass(frozen=True, slots=True)
class Coding:
    """How a picture's numbers are to be read. `full`: black is 0 and white the highest number; None: nothing says
    so."""

    matrix: int = UNSPECIFIED
    primaries: int = UNSPECIFIED
    transfer: int = UNSPECIFIED
    full: bool | None = None

    def settled(self, width: int, height: int) -> Coding:
        """The same with what is unspecified filled in: BT.601 up to 576 lines, BT.709 above, BT.2020 where another tag
        says wide or high dynamic range; limited range."""
        wide = self.primaries == BT2020 or self.transfer in (PQ, HLG)
        matrix = self.matrix
        if matrix not in MATRICES and matrix != RGB_MATRIX:
            matrix = BT2020 if wide else BT709 if width >= 1280 or height > 576 else 6
        primaries = self.primaries
        if primaries in (0, UNSPECIFIED, 3):
            primaries = BT2020 if wide or matrix in (9, 10) else BT709
        transfer = BT709 if self.transfer in (0, UNSPECIFIED, 3) else self.transfer
        return Coding(matrix, primaries, transfer, bool(self.full))

    @property
    def plain(self) -> bool:
        """Whether its RGB is that of BT.709 already, so that a matrix and a range are all there is to change."""
        return self.transfer not in (LINEAR, PQ, HLG) and self.primaries not in (BT2020, *P3)


def pq_light(v: Array) -> Array:
    """Light in cd/m2 of PQ values 0..1 (SMPTE ST 2084; BT.2100 table 4). 0.58 is about 203 cd/m2."""
    m1, m2, c1, c2, c3 = 2610 / 16384, 2523 / 32, 3424 / 4096, 2413 / 128, 2392 / 128
    x = np.power(np.clip(v, 0, 1), 1 / m2)
    return np.asarray(10000 * np.power(np.maximum(x - c1, 0) / (c2 - c3 * x), 1 / m1))


def hlg_light(v: Array) -> Array:
    """Light in cd/m2 of HLG values (..., 3) on a display of 1000 cd/m2: inverse OETF, then the OOTF with its gamma of
    1.2 (BT.2100 table 5). 0.75 is 203 cd/m2."""
    start, end, c = 0.17883277, 0.28466892, 0.55991073
    scene = np.where(v <= 0.5, v * v / 3, (np.exp((np.clip(v, 0, 1) - c) / start) + end) / 12)
    y = scene @ np.array([0.2627, 0.6780, 0.0593])
    return np.asarray(PEAK * np.power(np.maximum(y, 1e-9), 0.2)[..., None] * scene)


def toned_down(y: Array) -> Array:
    """Luminance in cd/m2 as an SDR display shows it, after BT.2446-1 method C: 0.838 of it up to 58.5 cd/m2, so that
    faces keep their contrast, logarithmic above. Reference white, 203 cd/m2, comes to 90.7, a peak of 1000 to 118."""
    k1, k2, k3, k4, knee = 0.83802, 15.09968, 0.74204, 78.99439, 58.5
    ip = knee / k1
    above = k2 * np.log(np.maximum(y / ip - k3, 1e-6)) + k4
    return np.where(y < ip, k1 * y, above)


# Linear RGB of BT.2020 and of P3 (D65) in terms of BT.709's (BT.2087 inverted; from the primaries of EG 432-1).
_TO_709 = {
    BT2020: np.array(
        [[1.660491, -0.587641, -0.072850], [-0.124550, 1.132900, -0.008349], [-0.018151, -0.100579, 1.118730]]
    ),
    11: np.array([[1.224940, -0.224940, 0.0], [-0.042057, 1.042057, 0.0], [-0.019638, -0.078636, 1.098274]]),
}
_TO_709[12] = _TO_709[11]
_LUMA_2020 = np.array([0.2627, 0.6780, 0.0593])


def shown(rgb: Array, coding: Coding) -> Array:
    """Coded RGB (..., 3), 0..1, of a settled coding -> coded RGB of BT.709, 0..1.

    High dynamic range is toned down by `toned_down` in luminance, hue and saturation kept; its peak of 1000 cd/m2 comes
    to full white, so 203 cd/m2 (BT.2408's reference white) to 0.89 and its grey of 26 cd/m2 to 0.49.
    """
    if coding.transfer in (PQ, HLG):
        light = np.minimum(pq_light(rgb), PEAK) if coding.transfer == PQ else hlg_light(rgb)
        y = light @ _LUMA_2020
        top = float(toned_down(np.array([PEAK]))[0])
        linear = light * (toned_down(y) / np.maximum(y, 1e-6) / top)[..., None]
    elif coding.transfer == LINEAR:
        linear = np.clip(rgb, 0, 1)
    else:
        linear = np.power(np.clip(rgb, 0, 1), GAMMA)
    if coding.primaries in _TO_709:
        linear = linear @ _TO_709[coding.primaries].T
    return np.asarray(np.power(np.clip(linear, 0, 1), 1 / GAMMA))


@cache
def table(coding: Coding, size: int = 65) -> npt.NDArray[np.float32]:
    """`shown` at size x size x size points, blue slowest, red fastest: shape (size ** 3, 3)."""
    levels = np.linspace(0, 1, size)
    b, g, r = np.meshgrid(levels, levels, levels, indexing="ij")
    return shown(np.stack([r, g, b], -1).reshape(-1, 3), coding).astype(np.float32)


def cube_text(colours: npt.NDArray[np.float32]) -> str:
    """A table in the text form of the Cube LUT Specification 1.0."""
    size = round(len(colours) ** (1 / 3))
    lines = "\n".join(f"{r:.6f} {g:.6f} {b:.6f}" for r, g, b in colours.tolist())
    return f"LUT_3D_SIZE {size}\n{lines}\n"
