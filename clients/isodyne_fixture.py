"""Runs for tests with pytest. In a conftest.py:

    from isodyne_fixture import bench  # noqa: F401

and in a test (clients/example_test.py is a whole one):

    def test_it_fills(bench):
        run = bench("tank.dyne", "hold", faults=["stuck"])
        run.set("inflow", "3 l/s")
        assert run.wait("level > 1.01 m", within="10 min")

Runs that a test has begun are ended with it. Their folders stay where pytest keeps the temporary folders of its last sessions, and
are named where a test fails. `isodyne` is looked for where the variable ISODYNE says, else on the path.
"""

import os
from typing import Any, Callable, Iterator, List

import pytest

import isodyne


@pytest.fixture
def bench(request: pytest.FixtureRequest, tmp_path: Any) -> Iterator[Callable[..., isodyne.Run]]:
    """Begins an open run: `bench("tank.dyne", "hold", faults=[…], paced=True)`, as isodyne.start()."""
    runs: List[isodyne.Run] = []

    def begin(file: str, *words: Any, **more: Any) -> isodyne.Run:
        more.setdefault("program", os.environ.get("ISODYNE", "isodyne"))
        more.setdefault("out", str(tmp_path / f"run-{len(runs) + 1}"))
        # A bench is beside its tests.
        beside = os.path.join(os.path.dirname(str(request.path)), file)
        run = isodyne.start(beside if os.path.exists(beside) else file, *words, **more)
        runs.append(run)
        return run

    yield begin
    for run in runs:
        run.close()
        print(f"evidence in {run.folder}")
