"""Measurements as tables and back, what a machine can do, and what is left of broken work."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from splarn.core.errors import RequestError
from splarn.core.ledger import Entry, Ledger
from splarn.core.measured import entries_of, read_table, table_of, write_table
from splarn.core.shape.manifest import UNFINISHED
from splarn.core.tidy import left_here, scratch_prefix
from splarn.core.tuning.ceilings import nearness
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.trial import Trial
from splarn.core.work import probe
from splarn.core.work.disk import forget_files
from splarn.core.work.machine import describe_machine
from splarn.core.work.owner import owned, owner_note
from tests.core.test_model import SPACE, Machine


def trials() -> list[Trial]:
    made = Machine(1, 0.02).trials(SPACE, Volume(16e6, 160_000), 1)
    return [replace(one, started="2031-01-01T00:00:00", packed_bytes=5) for one in made[:6]]


def entries() -> list[Entry]:
    """A sweep of some trials, and a load, as a ledger has them."""
    at = "2031-01-01T00:00:00+00:00"
    sweep = {"target": "sqlite:///t.db", "machine": "one", "layout_name": "passages"}
    found = [Entry("sweep", "sweep-1", "", at, "", 9.0, sweep)]
    found += [
        Entry("trial", f"sweep-1-{number}", "sweep-1", at, "", one.seconds,
              {**one.as_json(), "cost": {"total": 0.5}, "currency": "crowns"})
        for number, one in enumerate(trials())
    ]  # fmt: skip
    load = {"seconds": 3.0, "phases": {"load": 2.5, "finish": 0.5}, "rows_loaded": 90,
            "rows_rejected": 10, "target": "sqlite:///t.db"}  # fmt: skip
    return [*found, Entry("load", "load-1", "", at, "", 3.0, load)]


@pytest.mark.parametrize("ending", ["parquet", "csv", "json"])
def test_measurements_survive_a_table(tmp_path: Path, ending: str) -> None:
    path = tmp_path / f"measured.{ending}"
    write_table(table_of(entries()), path)
    sweep, *rest = entries_of(read_table(path), "there")
    assert (sweep.kind, sweep.id, sweep.document["layout_name"]) == ("sweep", "sweep-1", "passages")
    back = [Trial.from_json(one.document) for one in rest if one.kind == "trial"]
    for was, now in zip(trials(), back, strict=True):
        assert (now.configuration, now.role, now.repeat) == (
            was.configuration,
            was.role,
            was.repeat,
        )
        assert now.seconds == pytest.approx(was.seconds)
        assert now.phases == pytest.approx(was.phases)
    (load,) = [one for one in rest if one.kind == "load"]
    assert load.document["rows_loaded"] == 100
    assert load.document["imported_from"] == "there"


def test_what_is_no_measurement_is_refused_with_its_row() -> None:
    good = next(row for row in _rows() if row["kind"] == "trial")

    def without(*names: str, **changed: Any) -> dict[str, Any]:
        return {**{k: v for k, v in good.items() if k not in names}, **changed}

    for row, told in (
        (without("phase_load"), "phase_load is missing"),
        (without("batch_rows"), "batch_rows is missing"),
        (without(seconds=good["seconds"] * 60), "all times must be in seconds"),
        (without(phase_brewing=0.1), "brewing"),
        (without(rows="many"), "rows is 'many'"),
        (without(route="by air"), "by air"),
        (without(kind="rumour"), "rumour"),
    ):
        with pytest.raises(RequestError, match=f"there, row 2: .*{told}"):
            entries_of([good, row], "there")
    failed = without("phase_load", failure="the target was full", seconds=0.0)
    assert entries_of([failed], "there")[-1].document["failure"] == "the target was full"


def _rows() -> list[dict[str, Any]]:
    return [
        {key: value for key, value in row.items() if value is not None}
        for row in table_of(entries()).to_pylist()
    ]


def test_files_that_hold_no_table_are_refused(tmp_path: Path) -> None:
    (tmp_path / "a.json").write_text("{}")
    (tmp_path / "b.parquet").write_text("no columns")
    for name, told in (("a.json", "no list"), ("b.parquet", "cannot be read"),
                       ("c.csv", "no file"), ("d.txt", "must end in")):  # fmt: skip
        with pytest.raises(RequestError, match=told):
            read_table(tmp_path / name)


def test_a_machine_is_probed_and_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(probe, "DISK", 8 << 20)
    monkeypatch.setattr(probe, "LONGEST", 0.2)
    speeds = probe.disk_speeds(tmp_path)
    assert set(speeds) == {"disk_write", "disk_read", "disk_read_cached"}
    assert min(*speeds.values(), probe.memory_copy(), probe.loopback()) > 1e6
    assert list(tmp_path.iterdir()) == []
    assert probe.quickest(lambda: None) < 0.01
    carried = {1: 10.0, 2: 19.0, 4: 20.0, 8: 99.0}
    assert probe.until_it_grows_no_more(carried.__getitem__) == [(1, 10.0), (2, 19.0), (4, 20.0)]
    assert "cores" in describe_machine()
    (tmp_path / "file").write_bytes(b"kept")
    forget_files([tmp_path / "file"])
    assert (tmp_path / "file").read_bytes() == b"kept"


def test_phases_are_held_against_their_own_ceilings() -> None:
    one = trials()[0]
    configuration = replace(one.configuration, transfer_streams=3, workers=1)
    trial = replace(one, configuration=configuration, phases={**one.phases, "ship": 2.0})
    packing = str(configuration.packing)
    told = {
        "codecs": {packing: {"pack": 1e8}},
        "depot_line": [[1, 5.0], [2, 8.0], [4, 9.0]],
        "disk_write": 1e9,
    }
    found = {near.phase: near for near in nearness(trial, told)}
    assert found["shape"].share == pytest.approx(trial.bytes / trial.phases["shape"] / 1e8)
    # Three streams are held against what two were seen to carry.
    assert found["ship"].share == pytest.approx(trial.packed_bytes / 2.0 / 8.0)
    assert found["load"].ceiling == 1e9
    assert nearness(trial, {}) == []


def test_leftovers_here_are_found_by_whose_they_are(tmp_path: Path) -> None:
    parts = tmp_path / ".splarn" / "parts"
    for name in ("plan-1", "plan-2"):
        (parts / name).mkdir(parents=True)
        (parts / name / "a-0001.csv").write_text("12345")
    book = Ledger(tmp_path)
    book.put("run", "run-1", "", {}, parent="plan-1")
    (tmp_path / "half").mkdir()
    (tmp_path / "half" / UNFINISHED).write_text(json.dumps({"request": "r", "name": "a"}) + "\n")
    (tmp_path / "half" / "a-0001.csv").write_text("1")
    # One that is at work, and a run that is, are nobody's leftovers.
    (tmp_path / "busy").mkdir()
    mark = json.dumps({"request": "r", "name": "a", "process": os.getpid()})
    (tmp_path / "busy" / UNFINISHED).write_text(mark + "\n")
    (parts / "plan-3").mkdir()
    over = subprocess.Popen(["true"])
    over.wait()
    mine = Path(tempfile.mkdtemp(prefix=scratch_prefix()))
    dead = Path(tempfile.mkdtemp(prefix=f"splarn-sweep-{over.pid}-"))
    with owned(parts / "plan-3"):
        found = {Path(one.where): one for one in left_here(tmp_path, book)}
    assert not {tmp_path / "busy", parts / "plan-3"} & set(found)
    assert {parts / "plan-3"} <= {Path(one.where) for one in left_here(tmp_path, book)}
    owner_note(parts / "plan-1").write_text(str(over.pid))
    assert {parts / "plan-1", parts / "plan-2", tmp_path / "half", dead} <= set(found)
    assert mine not in found
    assert "is over" in found[parts / "plan-1"].what
    assert "did not end" in found[parts / "plan-2"].what
    assert found[parts / "plan-1"].bytes == 5
    for at in (parts / "plan-1", tmp_path / "half", dead):
        found[at].remove()
        assert not at.exists()
    assert not owner_note(parts / "plan-1").exists()
    assert (parts / "plan-2").exists()
    mine.rmdir()
    book.close()
