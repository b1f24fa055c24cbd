"""Every route asked for everything its schema allows, and more: `./kovel bench api [EXAMPLES]` (30 a route unless
said).

Schemathesis (to be installed for it: pip install schemathesis) makes requests out of the schema that the application
tells of itself, uploads and deletes included, one by one and then in sequences that build on each other's answers.
No answer may be a server error, each is to be one that the schema names, and afterwards the database is whole and
nothing was noted as unforeseen.
"""

import sys
import tempfile
import time
import warnings
from collections import Counter
from pathlib import Path
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import status_code_conformance
from tests import made

from kovel.data_folder import DataFolder
from kovel.services.footage.intake import bring_in
from kovel.services.job_kinds import scheduler_for
from kovel.store import backup, jobs, projects, stories
from kovel.web.app import create_app

HEAD = {"x-kovel": "1", "accept": "application/json", "host": "127.0.0.1:8463"}
CHECKS = (not_a_server_error, status_code_conformance)


def project(root: Path) -> DataFolder:
    """A project with a recording, a shot and a story of both."""
    data = DataFolder(root / "data")
    p = projects.create(data.db, "Asked", "25", "1280x720")
    for n, name in enumerate(("talk", "boat")):
        made.clip(root / f"{name}.mp4", n + 1, 100)
        bring_in(data, p.id, root / f"{name}.mp4", name=name, kind="interview")
    foreman = scheduler_for(data)
    foreman.start()
    while jobs.unfinished(data.db):
        time.sleep(0.1)
    foreman.stop()
    for i in (1, 2, 1):
        stories.edit(data.db, 1, None, "add_at_end", {"source": i, "start": 10, "length": 50})
    return data


class Asking:
    """What was asked and answered."""

    def __init__(self, examples: int) -> None:
        self.few = settings(
            max_examples=examples,
            deadline=None,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
            stateful_step_count=20,
        )
        self.wrong: Counter[str] = Counter()
        self.statuses: Counter[int] = Counter()
        self.slowest = (0.0, "")

    def route(self, op: Any) -> None:
        """One route, with numbers of rows that mostly are there."""
        there = st.sampled_from([1, 1, 1, 2, 3, 99])

        @self.few
        @given(
            case=op.as_strategy(), ids=st.fixed_dictionaries({p: there for p in _numbers(op)}), real=st.integers(0, 3)
        )
        def ask(case: Any, ids: dict[str, int], real: int) -> None:
            if real:
                case.path_parameters.update(ids)
            at = time.monotonic()
            try:
                answer = case.call(headers=HEAD)
            except Exception as e:  # one that no handler of the application took
                self.wrong[f"{op.label}: {type(e).__name__}: {e} {case.as_curl_command()[:300]}"] += 1
                return
            self.look(op.label, case, answer, at)

        ask()

    def look(self, label: str, case: Any, answer: Any, at: float) -> None:
        self.slowest = max(self.slowest, (time.monotonic() - at, label))
        self.statuses[answer.status_code] += 1
        try:
            case.validate_response(answer, checks=CHECKS)
        except BaseExceptionGroup as e:
            told = [type(x).__name__ for x in e.exceptions]
            self.wrong[f"{label}: {answer.status_code} {told} {answer.content[:120]!r}"] += 1

    def sequences(self, schema: Any) -> None:
        """Requests that take up what earlier ones answered."""
        asking = self

        class Machine(schema.as_state_machine()):  # type: ignore[misc]
            def before_call(self, case: Any) -> None:
                self.at = time.monotonic()
                case.headers = {**(case.headers or {}), **HEAD}

            def validate_response(self, response: Any, case: Any, **_: Any) -> None:
                asking.look(case.operation.label, case, response, self.at)

        Machine.run(settings=self.few)


def main() -> None:
    asking = Asking(int(sys.argv[1]) if len(sys.argv) > 1 else 30)
    warnings.simplefilter("ignore")
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as name:
        root = Path(name)
        data = project(root)
        app = create_app(data, [root], jobs=False)
        schema = schemathesis.openapi.from_asgi("/openapi.json", app, headers=HEAD)
        operations = [o.ok() for o in schema.get_all_operations()]
        for op in operations:
            asking.route(op)
        alone = asking.statuses.total()
        asking.sequences(schema)
        print(
            f"{alone} requests on {len(operations)} routes, {asking.statuses.total() - alone} in sequences, in"
            f" {time.monotonic() - began:.0f} s: {dict(sorted(asking.statuses.items()))}"
        )
        print(f"the slowest: {asking.slowest[0]:.1f} s, {asking.slowest[1]}", flush=True)
        for told, n in asking.wrong.most_common(60):
            print(f"{n:>4} {told}")
        noted = data.root / "logs" / "kovel.log"
        failed = [x for x in noted.read_text().splitlines() if '"failed"' in x] if noted.exists() else []
        print("\n".join(failed[:20]) or "nothing unforeseen was noted")
        print(f"the database: {backup.damage(data.db.path) or 'whole'}")


def _numbers(op: Any) -> list[str]:
    """The parameters of a path that are rows' numbers."""
    return [p.name for p in op.path_parameters if p.definition.get("schema", {}).get("type") == "integer"]


if __name__ == "__main__":
    main()
