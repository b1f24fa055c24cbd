"""What a check finds, and what a room can do about it."""

from __future__ import annotations

from dataclasses import dataclass

GRAVE = 45  # weight from which a finding is marked in red


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing to look at, at story frame `at` (None: nowhere in particular); `weight` 0..100 says how bad it is."""

    kind: str
    at: int | None
    text: str
    weight: int

    @property
    def is_grave(self) -> bool:
        """Whether it is marked, not only listed."""
        return self.weight >= GRAVE

    @property
    def mend(self) -> tuple[str, str, str] | None:
        """What a room can do about it: the room, its action and the action's name."""
        return MENDS.get(self.kind)


MENDS = {
    "step": ("sound", "even", "Even out the voices"),
    "loudness": ("sound", "target", "Bring it there"),
    "over": ("sound", "target", "Tame the peaks"),
    "jump": ("picture", "punch", "Punch in at jumps"),
    "edges": ("picture", "", "Frame it"),
    "cut off": ("picture", "", "Change its look"),
    "unread": ("picture", "", "Change it"),
    "unsafe": ("picture", "", "Move it"),
}
