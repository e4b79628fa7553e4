"""Runs whose depot, engine or source does not stay as it was: one sentence, and they go on."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from splarn.core.errors import OutsideError, RequestError, SplarnError
from splarn.core.flow.bringing import Bringing
from splarn.core.run.flow import RunRecord
from splarn.depots.landing import DepotLanding
from splarn.standin.depot import SimulatedDepot
from splarn.standin.millrace.api import Millrace
from splarn.standin.millrace.physics import EnginePhysics
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import served
from tests.conftest import SERVERS_REQUIRED, ask
from tests.engines.gauges import count, readings
from tests.engines.test_flow import GOOD, carry_out, delivery_of, plan_for
from tests.servers import OwnPostgresql, fill, free_port, mount_small, unmount

# Found by its name.
__all__ = ["delivery_of"]


def disturbed(
    patch: pytest.MonkeyPatch, run: Callable[[], Any], act: Callable[[], Any], after: int = 3
) -> SplarnError:
    """The error that a run ends with when something happens once so many parts are in."""
    loaded, told = Bringing.loaded, 0

    def then(self: Bringing, *given: Any) -> None:
        nonlocal told
        loaded(self, *given)
        told += 1
        if told == after:
            act()

    with patch.context() as here:
        here.setattr(Bringing, "loaded", then)
        with pytest.raises(SplarnError) as found:
            run()
    text = str(found.value)
    assert text.count("\n") == 0
    assert text.rstrip(".").count(". ") <= 1, text
    return found.value


def all_in(target: str, table: str, record: RunRecord, rows: int = GOOD) -> None:
    assert (record.load.rows_loaded, record.load.verified) == (rows, True)
    assert count(target, table) == rows
    assert ask(target, f"SELECT count(DISTINCT reading_no) FROM {table}") == [(rows,)]


@pytest.mark.parametrize("how", ["full", "gone", "forgetful"])
def test_a_depot_that_fills_goes_or_forgets(
    tmp_path: Path, delivery_of: list[Path], monkeypatch: pytest.MonkeyPatch, how: str
) -> None:
    monkeypatch.setattr("splarn.core.source.retry.TRIES", 2)
    target = f"sqlite:///{tmp_path / 't.db'}"
    plan = plan_for(target, "t", delivery_of, transfer_streams=1, load_streams=1, workers=1)
    disk, port = tmp_path / "disk", free_port()
    with ExitStack() as held:
        if not mount_small(disk, "1m"):
            if SERVERS_REQUIRED:
                pytest.fail("no tmpfs can be mounted")
            pytest.skip("no tmpfs can be mounted without more rights")
        held.callback(unmount, disk)
        store = disk / "store"
        store.mkdir()
        serving = held.enter_context(ExitStack())
        at = serving.enter_context(served(SimulatedDepot(store, DepotPhysics(latency=0)), port))

        def run(keep: bool = False) -> RunRecord:
            landing = DepotLanding(f"{at}/parts", plan.id)
            return carry_out(plan, tmp_path, landing=landing, keep_parts=keep)

        def forget() -> None:
            for path in store.rglob("gauges-*"):
                path.unlink(missing_ok=True)

        acts = {"full": lambda: fill(disk, 0), "gone": serving.close, "forgetful": forget}
        # Parts that are in would give their room back.
        error = disturbed(monkeypatch, lambda: run(how == "full"), acts[how], 2)
        assert isinstance(error, OutsideError), error
        assert at.rpartition(":")[2] in str(error), error
        assert count(target, "t") < GOOD
        (disk / "filler").unlink(missing_ok=True)
        if how == "gone":
            held.enter_context(served(SimulatedDepot(store, DepotPhysics(latency=0)), port))
        all_in(target, "t", run())
        assert not list(store.rglob("gauges-*"))


def test_a_source_that_changes_meanwhile_is_told_and_may_come_back(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    paths = [readings(tmp_path / f"in/{n}.csv", n * 500 + 1, n * 500 + 500) for n in range(3)]
    plan = plan_for(target, table, paths, workers=1, load_streams=1)
    was = paths[2].read_text()

    def run() -> RunRecord:
        return carry_out(plan, tmp_path)

    error = disturbed(
        monkeypatch, run, lambda: paths[2].write_text(was + "1501,RM-1,7,2031-01-02\n")
    )
    assert "2.csv had " in str(error)
    assert "while it was read" in str(error)
    with pytest.raises(RequestError, match="another file then"):
        run()
    paths[2].write_text(was)
    all_in(target, table, run(), 1500)


def test_an_engine_that_goes_away_is_gone_on_with(
    own_postgresql: OwnPostgresql, tmp_path: Path, delivery_of: list[Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    target = own_postgresql.url
    plan = plan_for(target, "t", delivery_of)
    error = disturbed(monkeypatch, lambda: carry_out(plan, tmp_path), own_postgresql.crash)
    assert isinstance(error, OutsideError)
    own_postgresql.start()
    all_in(target, "t", carry_out(plan, tmp_path))


@pytest.mark.parametrize("tier", ["u1", "u3"])
def test_a_reading_engine_that_goes_away_is_gone_on_with(
    tmp_path: Path, delivery_of: list[Path], monkeypatch: pytest.MonkeyPatch, tier: str
) -> None:
    monkeypatch.setattr("splarn.core.source.retry.TRIES", 2)
    port = free_port()

    def engine() -> Millrace:
        return Millrace(tmp_path / "millrace", EnginePhysics(start_up=0.0))

    url = f"millrace://127.0.0.1:{port}"
    plan = replace(plan_for(url, "gauges", delivery_of, tier=tier, batch_rows=0))
    with ExitStack() as held:
        one = engine()
        held.enter_context(served(one, port))
        error = disturbed(
            monkeypatch, lambda: carry_out(plan, tmp_path), lambda: (held.close(), one.close())
        )
        assert isinstance(error, OutsideError)
    with ExitStack() as held:
        again = engine()
        held.callback(again.close)
        held.enter_context(served(again, port))
        record = carry_out(plan, tmp_path)
        assert (record.load.rows_loaded, record.load.verified) == (GOOD, True)
        assert again.compute.tier == "u1"
        assert again.store.rows("gauges") == GOOD
