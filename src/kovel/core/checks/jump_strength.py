"""How hard a jump is, by small grey pictures on both sides of it."""

import numpy as np
import numpy.typing as npt

Grey = npt.NDArray[np.uint8]


def jump_strength(before: Grey, after: Grey) -> int:
    """How hard a jump is, 0 to 100: how far the pictures differ across it, against how much the shot moves by itself.

    `before` are small grey pictures (n, h, w) up to the last one out, `after` from the first one in. 0: it moves no
    more than the shot does anyway; 50: the pictures differ by 12 of 255 more than that.
    """
    x, y = before.astype(np.float32), after.astype(np.float32)
    own = [float(np.abs(np.diff(s, axis=0)).mean((1, 2)).max()) if len(s) > 1 else 0.0 for s in (x, y)]
    d = max(0.0, float(np.abs(x[-1] - y[0]).mean()) - max(own))
    return round(100 * d / (d + 12))
