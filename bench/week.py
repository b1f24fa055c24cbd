"""A week's work replayed over HTTP: `./kovel bench week [HOURS]` (20 unless said; a tenth is enough to see that it
runs).

Hours of made footage are brought in, transcribed, logged, tightened, cut, covered and rendered by requests as the
pages send them. Prints the time of every step, beside the length of the footage, and the memory of every process, so
that the next run can be compared. The footage is the demo's, repeated without coding anew: long groups, sound,
speech.
"""

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlencode
from urllib.request import Request, urlopen

from bench.served import server
from kovel.data_folder import DataFolder, media_facts
from kovel.store import jobs, recordings, subclips, transcripts
from kovel.store.jobs import JobState

FOOTAGE = Path(__file__).parent.parent / "src" / "kovel" / "demo" / "footage"
EACH = 3 * 3600  # seconds of one interview, at most


def made(folder: Path, seconds: int) -> tuple[list[Path], list[Path]]:
    """Interviews of three hours and shots, as files: the demo's recordings, over and over."""
    talks = []
    for n, at in enumerate(range(0, seconds, EACH)):
        out = folder / f"interview {n + 1}.mp4"
        long = str(min(EACH, seconds - at))
        args = ["-stream_loop", "-1", "-i", str(FOOTAGE / "maren-a.mp4"), "-t", long, "-c", "copy", str(out)]
        subprocess.run(["ffmpeg", "-v", "error", "-y", *args], check=True)
        talks.append(out)
    return talks, sorted(p for p in FOOTAGE.glob("*.mp4") if not p.stem.startswith(("maren", "tobin", "odile")))


def memory() -> dict[str, int]:
    """Resident megabytes of every process of Kovel, by what it does."""
    out: dict[str, int] = {}
    for d in Path("/proc").glob("[0-9]*"):
        try:
            line = (d / "cmdline").read_bytes().decode(errors="replace").split("\0")
            pages = int((d / "statm").read_text().split()[1])
        except (OSError, ValueError):
            continue
        name = next((x for x in line if x.startswith("kovel")), "")
        if name:
            out[name] = max(out.get(name, 0), pages * 4096 // 1_000_000)
    return out


class Week:
    def __init__(self, url: str, data: DataFolder, seconds: int) -> None:
        self.url, self.data, self.seconds = url, data, seconds
        self.most: dict[str, int] = {}

    def send(self, to: str, /, **fields: object) -> str:
        body = urlencode(fields, doseq=True).encode() if fields else None
        return self._asked(Request(self.url + to, body, {"HX-Request": "true", "X-Kovel": "1", "Origin": self.url}))

    def edit(self, command: str, **params: object) -> None:
        body = json.dumps({"command": command, **params}).encode()
        head = {"Content-Type": "application/json", "Accept": "application/json", "X-Kovel": "1", "Origin": self.url}
        self._asked(Request(f"{self.url}/p/1/story/edit", body, head))

    def _asked(self, request: Request) -> str:
        with urlopen(request, timeout=600) as r:
            return str(r.read().decode(errors="replace"))

    def step(self, name: str, do: Callable[[], object]) -> None:
        began = time.perf_counter()
        did = do()
        took = time.perf_counter() - began
        for k, v in memory().items():
            self.most[k] = max(self.most.get(k, 0), v)
        print(f"{name:<48} {took:9.2f} s   {self.seconds / took:9.0f} times real time   {did or ''}", flush=True)

    def until(self, there: Callable[[], bool]) -> None:
        while not there():
            for k, v in memory().items():
                self.most[k] = max(self.most.get(k, 0), v)
            failed = jobs.in_state(self.data.db, JobState.FAILED)
            if failed:
                raise SystemExit(f"failed: {failed[0].message}")
            time.sleep(0.25)

    def run(self, talks: list[Path], shots: list[Path]) -> None:
        db = self.data.db
        self.send("/projects", name="A week", rate="25", size="1280x720")
        self.step(
            "brought in, all listed",
            lambda: [self.send("/p/1/footage/path", path=str(p)) for p in (*talks, *shots)] and None,
        )
        rows = {r.path: r for r in recordings.of_project(db, 1)}
        long, broll = [rows[str(p)].id for p in talks], [rows[str(p)].id for p in shots]
        for i in long:
            self.send(f"/p/1/recordings/{i}", kind="interview")
        for i in broll:
            self.send(f"/p/1/recordings/{i}", kind="b-roll")
        facts = lambda i: media_facts(self.data, i) or {}  # noqa: E731
        self.step("first interview opened in the Log", lambda: len(self.send(f"/p/1/log?rec={long[0]}")))
        self.step(
            "a piece of its picture, half way",
            lambda: len(self.send(f"/media/{long[0]}/pieces/{facts(long[0])['frames'] // 96}")),
        )
        self.step("the whole waveform of the first", lambda: self.until(lambda: facts(long[0])["sounded"]))
        self.send("/p/1/footage/transcribe", go=1)
        self.step("its first words", lambda: self.until(lambda: bool(transcripts.words_at(db, long[0], 0, 1))))
        self.step(
            "all words",
            lambda: self.until(lambda: not [j for j in jobs.unfinished(db) if j.kind == "transcribe"]),
        )
        self.step("all pictures", lambda: self.until(lambda: all(facts(i)["whole"] for i in (*long, *broll))))

        def logged() -> str:
            for i in long:
                total = facts(i)["frames"]
                for k, a in enumerate(range(0, total - 200, max(250, total // 400))):
                    self.send(
                        f"/p/1/recordings/{i}/subclips",
                        start=a,
                        end=a + 150,
                        name=f"Bite {k}",
                        verdict="keep",
                        tags="week",
                    )
            return f"{len(subclips.of_project(db, 1))} subclips"

        self.step("logged", logged)
        self.step("searched for a word", lambda: len(self.send("/p/1/search?q=ferry")))
        self.step("the whole log", lambda: len(self.send("/p/1/log/whole")))
        self.step("tightened: opened", lambda: len(self.send(f"/p/1/tighten?rec={long[0]}")))
        self.step("tightened: to the story", lambda: self.send(f"/p/1/tighten/{long[0]}/send", where="end") and None)
        self.step("the story opened", lambda: len(self.send("/p/1/story")))
        length = lambda: json.loads(self.send("/p/1/story/plan"))["length"]  # noqa: E731
        if length() > 3000:
            self.step("cut to two minutes", lambda: self.edit("extract", a=3000, b=length()))

        def covered() -> str:
            for k, a in enumerate(range(0, length() - 60, 250)):
                self.edit("lay_cover", source=broll[k % len(broll)], at=a, until=a + 50, start=0)
            return f"{length()} frames"

        self.step("covered", covered)
        self.step("checks", lambda: len(self.send("/p/1/story/checks")))
        self.send("/p/1/handoff/render", quality="small")
        self.step("rendered", lambda: self.until(lambda: not jobs.unfinished(db)))


def main() -> None:
    hours = float(sys.argv[1]) if len(sys.argv) > 1 else 20.0
    with tempfile.TemporaryDirectory(prefix="kovel-week-") as d:
        folder = Path(d)
        seconds = int(hours * 3600)
        (folder / "footage").mkdir()
        talks, shots = made(folder / "footage", seconds)
        print(
            f"{hours:g} hours in {len(talks)} interviews, {len(shots)} shots; "
            f"{sum(p.stat().st_size for p in talks) / 1e9:.1f} GB"
        )
        with server(str(folder / "data"), "--media", d, "--media", str(FOOTAGE)) as url:
            week = Week(url, DataFolder(folder / "data"), seconds)
            week.run(talks, shots)
        for name, mb in sorted(week.most.items()):
            print(f"{name:<48} {mb:9d} MB at most")


if __name__ == "__main__":
    main()
