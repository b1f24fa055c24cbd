"""How fast something runs, in the few words that stand beside it."""

from kovel.core.story.model import Cover, Piece
from kovel.core.story.reclocked import extent


def pace_note(clip: Piece | Cover) -> str:
    """How fast a piece or a cover runs, in words; nothing where it runs as it was shot."""
    if isinstance(clip, Piece):
        clock = clip.clock
        if clock.held is not None:
            return "a frame held"
        lowest, highest = extent(clip)
        ramp, backwards, percent = clock.ramp, clock.backwards, 100 * float(highest - lowest) / clip.length
        flat = not clock.ramp and clock.speed == 1
    else:
        ramp, backwards, percent = clip.ramp, bool(clip.settings["backwards"]), 100 * clip.used / clip.length
        flat = clip.used == clip.length
    noted_speeds = [] if flat else [f"{percent:.3g} %"]
    return ", ".join([*noted_speeds, *(["ramped"] if ramp else []), *(["backwards"] if backwards else [])])
