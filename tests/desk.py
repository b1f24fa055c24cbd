"""A workplace for tests of whoever hands calls out."""

from typing import Any


class Desk:
    """A workplace that does nothing: what was handed out, and the answers as the test gives them."""

    def __init__(self, slots: int = 2, *, is_here: bool = True, reaches: str = "") -> None:
        self.out: list[str] = []
        self.asked: dict[str, tuple[str, dict[str, Any]]] = {}
        self.answers: dict[str, dict[str, Any]] = {}
        self.told: list[str] = []
        self.slots, self.is_here, self.root = slots, is_here, reaches

    def reaches(self, params: dict[str, Any]) -> bool:
        return str(params.get("out", "")).startswith(self.root)

    def submit(self, key: str, name: str, params: dict[str, Any], urgency: float = 0, **how: Any) -> None:
        self.out.append(key)
        self.asked[key] = name, params

    def result(self, key: str) -> dict[str, Any] | None:
        return self.answers.get(key)

    def progress(self, key: str) -> float | None:
        return None

    def where(self, key: str) -> str:
        return "" if self.is_here else "anna"

    def stop(self, key: str) -> None:
        self.told.append(key)

    def forget(self, key: str) -> None:
        self.answers.pop(key, None)

    def close(self) -> None:
        pass
