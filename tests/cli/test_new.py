"""Job files made from files and a target: what is written can be worked with at once."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.job import read_job
from splarn.core.tuning.configuration import Space
from splarn.core.tuning.suggest import Surroundings, as_toml, sample_of, suggested
from splarn.core.units import parse_size
from tests.cli.home import readings
from tests.conftest import Splarn, ask

KINDS = st.sampled_from([(False, False), (True, False), (False, True)])


@given(
    size=st.floats(0, 1e14), row=st.floats(1, 1e6), cores=st.integers(1, 256), kind=KINDS,
    form=st.sampled_from(["csv", "jsonl", "parquet"]), tiers=st.integers(0, 12),
    depot=st.booleans(),
)  # fmt: skip
def test_a_space_is_small_fits_the_data_and_can_be_read(
    tmp_path_factory: pytest.TempPathFactory, size: float, row: float, cores: int,
    kind: tuple[bool, bool], form: str, tiers: int, depot: bool,
) -> None:  # fmt: skip
    names = tuple(f"u{n + 1}" for n in range(tiers))
    of = Surroundings(size, row, cores, form, *kind, names if kind[1] else (), depot)
    values = suggested(of)
    job = tmp_path_factory.getbasetemp() / "suggested.toml"
    job.write_text(f"[space]\n{as_toml(values)}\n")
    space = Space.of({}, form)
    found = read_job(job).space.values()
    assert {key: list(map(str, one)) for key, one in values.items()}.items() <= {
        key: list(map(str, getattr(read_job(job).space, key))) for key in values
    }.items()
    assert set(space.values) == set(found)
    count = 1
    for several in values.values():
        assert 1 <= len(set(several)) == len(several) <= 4
        count *= len(several)
    assert count <= 2000
    largest = max(parse_size(str(one)) for one in values["part_size"])
    streams = max(int(one) for one in values["load_streams"])
    # Every stream gets several parts, where there is enough for that.
    assert largest * streams * 4 <= max(size, 4 * streams * (256 << 10))
    assert sample_of(size) <= max(size, 256 << 10)


def test_who_only_pastes_reaches_a_plan_and_its_report(splarn: Splarn, home: Path) -> None:
    shutil.rmtree(home / "in")
    (home / "layout.json").unlink()
    readings(home / "mine" / "a.csv", 1, 9000)
    (home / "mine" / "gates.csv").write_text("gate;width\n" + "".join(f"G{n};3,{n}\n" for n in
                                             range(10, 60)))  # fmt: skip
    told = splarn("new", "mine", "--to", "sqlite:///t.db", "--deadline", "30s", "--json")
    assert told.code == 0, told.err
    assert told.json["kinds"] == ["gates"]
    text = (home / "splarn.toml").read_text()
    assert '# durability = ["full", "relaxed"]' in text
    assert splarn("new", "mine", "--to", "sqlite:///t.db").code == 2
    for words in (("check",), ("sweep", "--time-budget", "6s"), ("plan",), ("run", "plan.json"),
                  ("report",)):  # fmt: skip
        ran = splarn(*words)
        assert ran.code == 0, ran.err
    assert ask(f"sqlite:///{home / 't.db'}", "SELECT count(*), (SELECT count(*) FROM gates) "
               f'FROM "{told.json["table"]}"') == [(9000, 50)]  # fmt: skip
    assert (home / "report.html").exists()


def test_what_is_missing_or_wrong_is_said_and_nothing_is_written(
    splarn: Splarn, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for words, why in (
        (("new", "in"), "give --to URL"),
        (("new", "nowhere", "--to", "sqlite:///t.db"), "nowhere"),
        (("new", "in", "--to", "nothing://x"), "not known"),
        (("new", "in", "--to", "postgresql://a:secret@db/x"), "secret would be written"),
        (("new", "in", "--to", "sqlite:///t.db", "--deadline", "soon"), "--deadline"),
        (("new", "in", "--to", "sqlite:///t.db", "--layout", "none.json"), "none.json"),
    ):
        told = splarn(*words, "--out", "job.toml")
        assert told.code == 2, told.out
        assert why in told.err
        assert "secret@" not in told.err
        assert not (home / "job.toml").exists()
    # In a folder of its own it finds the files from there; a given layout stays where it is.
    told = splarn("new", "in/*.csv", "--to", "duckdb:///t.duckdb", "--out", "jobs/one.toml",
                  "--layout", "layout.json", "--table", "t", "--json")  # fmt: skip
    assert told.code == 0, told.err
    assert not (home / "jobs" / "layout.json").exists()
    assert splarn("check", "--job", "jobs/one.toml").code == 0
    loaded = splarn("load", "--job", "jobs/one.toml")
    assert loaded.code == 0, loaded.err
    assert (home / "t.duckdb").exists()
    assert json.loads(told.out)["files"] == ["jobs/one.toml"]
