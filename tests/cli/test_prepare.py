"""A spoiled delivery, from survey to clean parts, as the guide walks it."""

from __future__ import annotations

import gzip
import json
import shutil
from pathlib import Path

import pytest

from splarn.demo.scenario import Delivery
from tests.conftest import Splarn, ask


@pytest.fixture
def spoiled(tmp_path: Path, delivery: Delivery) -> Path:
    """The delivery with a twin, a lying name, a header-only file and an empty one among it."""
    folder = tmp_path / "delivery"
    folder.mkdir()
    for path in delivery.paths:
        shutil.copy(path, folder)
    (folder / "passages-06.csv").write_bytes(gzip.compress(delivery.paths[1].read_bytes()))
    (folder / "passages-07.csv").write_bytes(delivery.paths[0].read_bytes().split(b"\n")[0] + b"\n")
    (folder / "passages-08.csv").write_bytes(b"")
    return folder


def test_the_guides_walk(splarn: Splarn, spoiled: Path, delivery: Delivery) -> None:
    home = spoiled.parent
    found = splarn("survey", "delivery", "--streams", "4", "--part-size", "1MiB", "--json").json
    kinds = {finding["kind"] for finding in found["findings"]}
    assert kinds >= {"codec-mismatch", "same-content", "header-only", "empty"}
    twins = next(f["message"] for f in found["findings"] if f["kind"] == "same-content")
    assert twins.startswith("passages-02.csv and passages-06.csv hold the same content")
    for name in ("passages-06.csv", "passages-07.csv", "passages-08.csv"):
        (spoiled / name).unlink()
    assert splarn("survey", "delivery", "--part-size", "1MiB", "--json").json["findings"] == []

    assert splarn("layout", "delivery", "--out", "layout.json").code == 0
    layout = json.loads((home / "layout.json").read_text())
    fields = {field["name"]: field for field in layout["schema"]["fields"]}
    fields["passage_no"]["constraints"]["unique"] = True
    fields["direction"]["constraints"] = {"enum": ["up", "down"]}
    fields["draught_cm"]["constraints"] = {"minimum": 35, "maximum": 230}
    (home / "layout.json").write_text(json.dumps(layout))

    words = ("--layout", "layout.json", "--rejects", "rejects", "--good", "good", "--json")
    ran = splarn("check", "delivery", *words)
    assert ran.code == 1
    by_kind = {entry["kind"]: entry["rows"] for entry in ran.json["summary"]}
    limits = sum(e["rows"] for e in ran.json["summary"] if e["kind"] == "constraint")
    assert limits > 0
    assert ran.json["bad"] == len(delivery.spoiled) + limits
    assert "unique" not in by_kind
    again = splarn("check", "good", "--layout", "layout.json", "--json")
    assert (again.code, again.json["rows"]) == (0, ran.json["good"])
    short = splarn(
        "check", "delivery", "--layout", "layout.json", "--bad-row-limit", "1", "--json"
    ).json
    assert short["bad"] >= 1

    found = splarn("shape", "good", "--estimate", "--json").json
    shares = {f"{one['codec']}:{one['level']}": one["share"] for one in found["estimates"]}
    assert shares["none:0"] == 1
    assert shares["xz:1"] < shares["zstd:1"] < shares["lz4:0"] < 1

    words = ("--layout", "layout.json", "--codec", "lz4", "--verify", "--header", "--json")
    found = splarn("shape", "good", "--into", "parts", "--part-count", "4", *words).json
    assert (found["verified"], found["rows"]) == (True, ran.json["good"])
    assert 4 <= found["parts"] <= 5
    refused = splarn("shape", "good", "--into", "parts", *words)
    assert refused.code == 2
    assert splarn("shape", "good", "--into", "parts", "--again", *words).code == 0

    ran = splarn("load", "parts", "--to", "sqlite:///a.db", "--table", "passages", "--json")
    assert (ran.code, ran.json["verified"]) == (0, True)
    counted = ask(f"sqlite:///{home / 'a.db'}", "SELECT count(*) FROM passages")
    assert counted == [(found["rows"],)]


def test_filters_narrow_a_survey(splarn: Splarn, spoiled: Path) -> None:
    found = splarn("survey", "delivery", "--name", "*-0[12].csv", "--json").json
    assert [Path(file["path"]).name for file in found["files"]] == [
        "passages-01.csv",
        "passages-02.csv",
    ]
    found = splarn("survey", "delivery", "--larger", "500KB", "--newer", "1h", "--json").json
    assert all(file["bytes"] >= 500_000 for file in found["files"])
    ran = splarn("survey", "delivery", "--larger", "5GB")
    assert ran.code == 2
    assert "No file is left" in ran.err


def test_texts_for_people_say_what_to_do(splarn: Splarn, spoiled: Path) -> None:
    ran = splarn("survey", "delivery", "--show", "2")
    assert "… and 6 smaller files." in ran.out
    assert "--exact counts them" in ran.out
    assert "more; in all" in ran.out
    ran = splarn("shape", "delivery/passages-01.csv", "--into", "parts", "--codec", "zstd")
    assert "packed to" in ran.out
    assert "The manifest is parts/datapackage.json." in ran.out
    ran = splarn("shape", "delivery", "--estimate", "--workers", "1")
    assert "with 1 worker, here and now" in ran.out
    assert "1 file is packed" in ran.out


def test_formats_are_converted_proven_and_loaded(
    splarn: Splarn, tmp_path: Path, delivery: Delivery
) -> None:
    source = str(delivery.paths[0].parent)
    assert splarn("layout", source, "--out", "layout.json").code == 0
    words = ("--layout", "layout.json", "--verify", "--json")
    ran = splarn("shape", source, "--into", "strict", "--format", "jsonl", *words)
    assert ran.code == 1
    assert "--rejects DIR" in ran.json["error"]
    digests = []
    good = delivery.rows - len(delivery.spoiled)
    for name, *options in (
        ("columns", "--format", "parquet", "--partition-by", "entered:month", "--sort-by", "boat"),
        ("lines", "--format", "jsonl", "--codec", "zstd:3", "--part-rows", "4_000"),
        ("text", "--format", "csv", "--sort-by", "toll:desc", "--part-size", "300KiB"),
        ("packed", "--packed-size", "100KiB", "--codec", "gzip"),
    ):
        made = ("--into", name, "--rejects", f"{name}-rejects", *options, *words)
        ran = splarn("shape", source, *made)
        assert (ran.code, ran.json["verified"]) == (0, True), ran.err
        aside = 0 if name == "packed" else len(delivery.spoiled)
        assert (ran.json["rows"], ran.json["rows_rejected"]) == (delivery.rows - aside, aside)
        target = ("--to", "sqlite:///a.db", "--table", name, "--bad-rows", "set-aside")
        ran = splarn("load", name, *target, "--json")
        assert (ran.json["rows_loaded"], ran.json["verified"]) == (good, True)
        ask_for = (
            f"SELECT count(toll), sum(passage_no), max(entered), sum(length(note)) FROM {name}"
        )
        digests.append(ask(f"sqlite:///{tmp_path / 'a.db'}", ask_for))
        assert splarn("check", name, "--json").json["good"] == good
    assert len({str(digest) for digest in digests}) == 1
    sizes = [path.stat().st_size for path in (tmp_path / "packed").glob("*-0*")]
    assert all(70_000 < size < 130_000 for size in sorted(sizes)[-3:])
    again = splarn("shape", "lines", "--into", "again", "--format", "csv", "--verify", "--json")
    assert (again.json["rows"], again.json["verified"]) == (good, True)


@pytest.mark.parametrize(
    ("words", "what"),
    [
        (("--format", "avro"), "use csv, jsonl, parquet"),
        (("--format", "parquet", "--codec", "bzip2"), "inside Parquet"),
        (("--format", "jsonl", "--header"), "names its fields itself"),
        (("--part-rows", "5", "--part-count", "2"), "only one of"),
        (("--sort-by", "nothing"), "no field 'nothing'"),
        (("--partition-by", "toll:year"), "cannot be partitioned by 'year'"),
        (("--sort-by", "toll:up"), "use asc or desc"),
        (("--format", "parquet", "--packed-size", "1MiB"), "--part-rows"),
        (("--part-size", "10B"), "smaller than a record"),
    ],
)
def test_what_shape_cannot_do_is_said(
    splarn: Splarn, tmp_path: Path, delivery: Delivery, words: tuple[str, ...], what: str
) -> None:
    ran = splarn("shape", delivery.paths[3], "--into", "parts", *words)
    assert ran.code == 2
    assert what in " ".join(ran.err.split())
    assert not list((tmp_path / "parts").glob("*"))


def test_rejects_are_mended_and_loaded(
    splarn: Splarn, tmp_path: Path, delivery: Delivery, target: str, table: str
) -> None:
    assert splarn("layout", *delivery.paths, "--out", "layout.json").code == 0
    to = ("--layout", "layout.json", "--to", target, "--table", table, "--json")
    first = splarn("load", *delivery.paths, *to, "--bad-rows", "set-aside").json
    assert first["rows_rejected"] == len(delivery.spoiled)
    files = sorted(Path(tmp_path / first["rejects"]).glob("*.jsonl"))
    ran = splarn("load", "--mended", files[0], *to)
    assert ran.code == 1
    assert "stopped at a bad row" in ran.json["error"]
    mended = 0
    for file in files:
        lines = []
        for line in file.read_text().splitlines():
            reject = json.loads(line)
            if reject["field"] == "draught_cm":
                reject["raw"] = reject["raw"].replace(",deep,", ",99,")
                lines.append(json.dumps(reject))
        mended += len(lines)
        file.write_text("".join(f"{line}\n" for line in lines))
        if lines:
            ran = splarn("load", "--mended", file, *to, "--again")
            assert (ran.json["rows_loaded"], ran.json["verified"]) == (len(lines), True), ran.err
            again = splarn("load", "--mended", file, *to)
            assert (again.code, again.json["done_before"]) == (0, True)
    assert mended > 0
    counted = ask(target, f"SELECT count(*), count(DISTINCT passage_no) FROM {table}")
    assert counted == [(delivery.good + mended,) * 2]
    assert splarn("load", "--mended", "gone.jsonl", *to).code == 2
