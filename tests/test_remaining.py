"""Time left: against a made machine that prepares two at a time. Common practice, no source."""

from itertools import pairwise

from kovel.services.footage.time_left import Work, seconds_left


def machine(lengths: list[float], pace: float, at: float, start: float = 0.0) -> tuple[list[Work], list[Work], float]:
    """What is coming and done after `at` seconds on a machine with two hands, and how long it still takes."""
    free, rows = [start, start], []
    for length in lengths:
        k = free.index(min(free))
        rows.append((length, free[k], free[k] + length / pace))
        free[k] += length / pace
    coming = [Work(n, max(0.0, min(1.0, (at - a) / (b - a))), a if a <= at else None) for n, a, b in rows if b > at]
    return coming, [Work(n, 1.0, a, b) for n, a, b in rows if b <= at], max(free) - at


def test_what_is_said_holds_and_nothing_is_said_too_early() -> None:
    lengths = [600.0, 60, 60, 300, 30, 30, 900, 60, 120, 45, 45, 300]
    first = [seconds_left(*machine(lengths, 4.0, t)[:2], t) for t in (1, 5, 15)]
    assert first == [None, None, None]
    for pace, at in ((4.0, 30), (4.0, 100), (4.0, 250), (0.5, 900)):
        coming, done, truth = machine(lengths, pace, at)
        told = seconds_left(coming, done, at)
        assert told is not None and 0.6 * truth < told < 1.4 * truth, (pace, at, told, truth)


def test_from_what_this_machine_did_before_it_is_known_at_once_and_never_climbs_far() -> None:
    _, before, _ = machine([300.0, 200, 100, 400], 3.0, 10_000, 5_000)
    lengths, start, told = [240.0, 600, 30, 30, 120, 300], 20_000.0, []
    for t in range(0, 180, 5):
        coming, done, truth = machine(lengths, 2.0, start + t, start)  # slower today, by a third
        n = seconds_left(coming, [*before, *done], start + t)
        assert n is not None and 0.5 * truth - 5 <= n <= 1.6 * truth + 5, (t, n, truth)
        told.append(n)
    assert all(b <= a * 1.25 for a, b in pairwise(told)), told
    assert seconds_left([Work(60.0, 0.0, None)], [], 5.0) is None
