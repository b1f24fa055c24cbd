"""How hard a jump is, by small grey pictures on both sides of it."""

import numpy as np
import numpy.typing as npt

Grey = npt.NDArray[np.uint8]


def jump_strength(before: Grey, after: Grey) -> int:
    """How hard a jump is, 0 to 100: how far the pictures differ across it, against how much the shot moves by itself.

    `before` are small grey pictures (n, h, w) up to the last one out, `after` from the first one in. 0: it moves no
    more than the shot does anyway; 50: the pictures differ by 12 of 255 more than that.
    """
    grey_before, y = before.astype(np.float32), after.astype(np.float32)
    own_motion = [
        float(np.abs(np.diff(grey_stack, axis=0)).mean((1, 2)).max()) if len(grey_stack) > 1 else 0.0
        for grey_stack in (grey_before, y)
    ]
    d = max(0.0, float(np.abs(grey_before[-1] - y[0]).mean()) - max(own_motion))
    return round(100 * d / (d + 12))
