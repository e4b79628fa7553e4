"""Work by workers that share no memory with the client: the same parts, faults and ids."""

from __future__ import annotations

import os
import pickle
import shutil
import subprocess
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.check.checking import check
from splarn.core.cluster.joining import differences
from splarn.core.cluster.reaching import Beacons, Reach
from splarn.core.cluster.sealing import Letters, sealed, unsealed
from splarn.core.errors import OutsideError, RequestError, ShortfallError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.shape import read_manifest
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.shape.verify import verify_parts
from splarn.core.source import secrets
from splarn.core.source.codecs import Packing, codecs
from splarn.core.work.disk import ASIDE, BEACON, is_bare
from splarn.core.work.pool import Inline, Threads

LAYOUT = Layout("locks", Dialect(), (Field("a", "integer"), Field("b")))
TEXT = st.text(alphabet='ab,"\n\ré ', max_size=8).map(
    lambda text: '"' + text.replace('"', '""') + '"'
)
LINE = st.one_of(
    st.tuples(st.integers(0, 99), TEXT).map(lambda pair: f"{pair[0]},{pair[1]}\n"),
    st.just("none,bad\n"),
    st.just("\n"),
)


class Far(Threads):
    """Threads that are handed copies, as workers of another machine are."""

    apart = True

    def _submit(self, run: Callable[[Any], Any], task: Any, watch: Any) -> Future[Any]:
        posted = pickle.dumps((run, task))

        def away(_: Any) -> Any:
            there, copy = pickle.loads(posted)
            return pickle.loads(pickle.dumps(there(copy)))

        return super()._submit(away, task, watch)


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.lists(LINE, max_size=60).map("".join), min_size=1, max_size=3),
    st.sampled_from(["none", "gzip:1", "zstd:1"]),
    st.sampled_from(
        [
            PartsFormat("csv", Packing("gzip", 1), 120),
            PartsFormat("csv", Packing(), 0, 7),
            PartsFormat("jsonl", Packing(), 150, converted=True),
            PartsFormat("parquet", Packing("zstd", 1), 200),
        ]
    ),
    st.integers(2, 4),
)
def test_parts_are_the_same_wherever_they_are_made(
    tmp_path_factory: pytest.TempPathFactory, texts: list[str], packing: str,
    output: PartsFormat, workers: int,
) -> None:  # fmt: skip
    folder = tmp_path_factory.mktemp("apart")
    paths = []
    for number, text in enumerate(texts):
        path = folder / f"in-{number}"
        packer = codecs()[packing.partition(":")[0]].packer(Packing.parse(packing).level)
        data = f"a,b\n1,x{number}\n{text}".encode()
        path.write_bytes(packer.compress(data) + packer.flush())
        paths.append(path)
    far = Far(workers)

    def made(name: str, pool: Any) -> Any:
        try:
            found = shape(paths, LAYOUT, folder / name, output, pool, keep=None)
        except (RequestError, ShortfallError) as error:
            return str(error).replace(name, "")
        manifest = read_manifest(folder / name)
        parts = [(one.path, one.hash, one.rows, one.source) for one in manifest.parts]
        copies = output.is_copy(LAYOUT)
        assert verify_parts(manifest, LAYOUT, copies, pool) == []
        assert not list((folder / name).rglob(f"*{ASIDE}"))
        return parts, found.faults, manifest.contents

    assert made("far", far) == made("near", Inline())
    near, other = (check(paths, LAYOUT, pool) for pool in (Inline(), far))
    assert (near.rows, near.kinds, near.faults) == (other.rows, other.kinds, other.faults)
    far.close()


def test_a_packed_file_is_unpacked_once_and_goes_on_after_a_break(tmp_path: Path) -> None:
    source = tmp_path / "locks.csv"
    lines = [f"{number},barge {number % 7}\n" for number in range(20_000)]
    source.write_text("a,b\n" + "".join(lines))
    subprocess.run(["gzip", "-k", source], check=True)
    output = PartsFormat("csv", Packing("zstd", 1), 20_000)
    packed = [tmp_path / "locks.csv.gz"]
    near = shape(packed, LAYOUT, tmp_path / "near", output, Inline())

    class Breaking(Far):
        """Loses its workers after a few tasks."""

        left = 5

        def _submit(self, run: Callable[[Any], Any], task: Any, watch: Any) -> Future[Any]:
            if run.__name__ == "run_piece":
                self.left -= 1
                if self.left < 0:
                    raise OutsideError("the cluster is gone.")
            return super()._submit(run, task, watch)

    pool = Breaking(3)
    with pytest.raises(OutsideError, match="cluster is gone"):
        shape(packed, LAYOUT, tmp_path / "far", output, pool)
    pool.close()
    far = Far(3)
    made = shape(packed, LAYOUT, tmp_path / "far", output, far)
    far.close()
    assert made.resumed
    told = [[(one.path, one.hash, one.source) for one in each.manifest.parts]
            for each in (near, made)]  # fmt: skip
    assert told[0] == told[1]


@given(st.text(min_size=4, max_size=20).filter(str.isprintable), st.integers(0, 3))
def test_no_secret_stands_in_what_is_sent(value: str, place: int) -> None:
    letters = Letters("s1__of__")
    url = f"postgresql://carrier:{secrets.quote(value, safe='')}@host/locks"
    told = ["plain", url, f"http://host/x?token={secrets.quote(value, safe='')}", "${LOCK_WORD}"]
    told[place % 2] = told[place % 2] + "!"
    thing = {"task": (told, np.arange(3).tolist())}
    data = sealed(thing, letters.number)
    assert secrets.quote(value, safe="").encode() not in data or len(value) < 4
    assert unsealed(data, dict(enumerate(letters.texts))) == thing
    assert any("${s1__of__LOCK_WORD}" in text for text in letters.there())


def test_lent_names_are_filled_in_and_hidden_until_they_are_taken_back() -> None:
    names = {"s9__of__WEIR_WORD": "weir-lamp-4"}
    secrets.lend(names)
    assert secrets.filled("x${s9__of__WEIR_WORD}y", "it") == "xweir-lamp-4y"
    assert secrets.hide("the weir-lamp-4 is lit") == "the ${WEIR_WORD} is lit"
    secrets.take_back(names)
    assert secrets.hide("the weir-lamp-4 is lit") == "the weir-lamp-4 is lit"
    with pytest.raises(RequestError):
        secrets.filled("${s9__of__WEIR_WORD}", "it")


def test_places_are_told_apart_by_what_is_there(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("a\n1\n")
    beacons = Beacons()
    reach = Reach().reading([tmp_path / "a.csv"]).writing(tmp_path / "new" / "parts", beacons)
    assert reach.problems() == ()
    # A folder that is there already, with what a killed command left, is as bare as before.
    empty = tmp_path / "empty"
    empty.mkdir()
    left = empty / f"{BEACON}0{ASIDE}"
    left.touch()
    os.utime(left, (0, 0))
    assert Reach().writing(empty, beacons).problems() == ()
    assert is_bare(empty) and not left.exists()
    (empty / "other").touch()
    assert not is_bare(empty)
    shutil.rmtree(empty)
    (tmp_path / "a.csv").write_text("a\n1\n2\n")
    assert "has another file" in reach.problems()[0]
    (tmp_path / "a.csv").unlink()
    beacons.remove()
    there, folder = reach.problems()
    assert "does not see" in there and "shared folder" in there
    assert "does not see the folder" in folder
    assert not list(tmp_path.iterdir())


def test_workers_that_would_do_otherwise_are_named() -> None:
    ours = {
        "python": "3.11.7", "splarn": "1", "code": "x", "kernel": True,
        "packages": {"numpy": "2.0", "duckdb": "1.1"},
    }  # fmt: skip
    assert differences({**ours, "packages": {"numpy": "2.0", "duckdb": ""}}, ours) == []
    assert differences({**ours, "python": "3.12.1"}, ours) == ["Python 3.12.1 in place of 3.11.7"]
    assert differences({**ours, "code": "y"}, ours) == ["another Splarn of the same version"]
    assert "kernel" in differences({**ours, "kernel": False}, ours)[0]
    assert differences({**ours, "packages": {"numpy": "1.9"}}, ours) == [
        "numpy 1.9 in place of 2.0"
    ]
    assert "no Splarn" in differences({"python": "3.11.7", "splarn": ""}, ours)[0]
    assert "does not answer" in differences(OSError("gone"), ours)[0]
