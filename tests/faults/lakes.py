"""Rounds in a lake: loads, compactions and undos that are killed, and what another reader finds."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from collections import Counter

from tests.faults.common import hold, load_words
from tests.faults.program import Ended, begin, splarn, until_done
from tests.faults.world import Row, Source, Target, World, expected

LAYOUTS = ("plain", "bucket(reading_no 4)", "value(lock_code) sort(toll)",
           "bucket(lock_code 3) 16KiB rows(100)")  # fmt: skip
# Reads a table by the Iceberg library alone, and prints its rows as JSON.
READ = """
import json, sys
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.exceptions import NoSuchTableError
folder, table = sys.argv[1:]
catalog = SqlCatalog("splarn", uri=f"sqlite:///{folder}/catalog.db", warehouse=f"file://{folder}")
try:
    rows = catalog.load_table(("main", table)).scan().to_arrow().to_pylist()
except NoSuchTableError:
    rows = []
names = ("reading_no", "lock_code", "toll", "note")
print(json.dumps([[str(row[name]) if name != "reading_no" else row[name] for name in names]
                  for row in rows]))
"""


class Lake(Target):
    """A lake in the round's folder."""

    kind = "lake"

    def __init__(self, world: World) -> None:
        super().__init__(world)
        self.path = world.folder / "lake"
        self.url = f"lake:///{self.path}"

    def rows(self, table: str | None = None) -> Counter[Row]:
        """See Target. In a process of its own, so that this one may go on to fork."""
        words = [sys.executable, "-c", READ, str(self.path), table or self.world.table]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        if done.returncode:
            raise RuntimeError(done.stderr[-400:])
        found = json.loads(done.stdout)
        return Counter((int(n), lock, f"{float(toll):.2f}", note) for n, lock, toll, note in found)


class Life:
    """The loads that are in a table, by their ids, and what each has put an end to."""

    def __init__(self, world: World) -> None:
        self.world, self.target = world, Lake(world)
        self.layout = world.chance.choice(LAYOUTS)
        self.loads: dict[str, Source] = {}
        self.ended: dict[str, dict[str, Source]] = {}
        self.files = 0
        self.stays = False

    def file(self, least: int = 50, most: int = 900) -> Source:
        self.files += 1
        rows = self.world.chance.randint(least, most)
        return self.world.file(f"f{self.files}.csv", rows, self.world.chance.randint(0, 2))

    def words(self, source: Source, mode: str = "append") -> list[str]:
        more = ["--file-layout", self.layout] if not self.loads or mode == "replace" else []
        told = load_words(self.world, self.target, source)
        return [*told, "--table-mode", mode, "--yes", *more]

    def give(self, words: list[str], kills: int = 0) -> Ended:
        """A command that is killed so often, and then given until it ends well."""
        for _ in range(kills):
            begin(self.world.folder, *words).kill_after(self.world.chance.uniform(0.1, 1.6))
        return until_done(self.world.folder, *words)

    def load(self, mode: str, kills: int) -> None:
        source = self.file()
        told = self.give(self.words(source, mode), kills).json
        assert told["verified"] in (True, None), told
        if mode != "append":
            # What a load had put an end to that ends now is not kept any longer.
            self.ended = {told["load_id"]: self.loads}
            self.loads = {}
        self.loads[told["load_id"]] = source

    def load_two(self) -> None:
        """Two loads at once, one of which may be killed."""
        sources = [self.file(), self.file()]
        running = [begin(self.world.folder, *self.words(one)) for one in sources]
        if self.world.chance.random() < 0.5:
            running[0].kill_after(self.world.chance.uniform(0.2, 1.4))
        for one, source in zip(running, sources, strict=True):
            ended = one.wait()
            if ended.code:
                # One that was killed behind its last commit is in, and another came after it.
                ended = splarn(self.world.folder, *self.words(source))
            there = re.search(r"is already in \S+: the load (\S+) of", ended.said)
            if ended.code and not there:
                ended = self.give(self.words(source))
            self.loads[there[1] if there else ended.json["load_id"]] = source

    def undo(self, load_id: str, kills: int) -> None:
        words = ["undo", load_id, "--to", self.target.url, "--yes", "--json"]
        for _ in range(kills):
            begin(self.world.folder, *words).kill_after(self.world.chance.uniform(0.1, 1.2))
        ended = splarn(self.world.folder, *words)
        if "from before were not kept" in ended.said or "was not kept" in ended.said:
            # They went with the load that had put an end to this one.
            assert load_id not in self.ended, ended.said
            self.stays = True
            return
        if "that came after it would go too" in ended.said:
            assert len(self.loads) > 1, ended.said
            return
        assert ended.code == 0 or "taken back already" in ended.said, ended.said
        del self.loads[load_id]
        self.loads |= self.ended.pop(load_id, {})

    def hold(self, what: str) -> None:
        """Another reader finds just the rows of these loads."""
        hold(self.target.rows(), expected(*self.loads.values()), f"{what} in {self.layout}")


def in_a_lake(world: World) -> None:
    """Whatever is killed in a lake, every load is in it once or not at all, and the same rows."""
    chance, life = world.chance, Life(world)
    for _ in range(chance.randint(3, 5)):
        what = chance.choice(("append", "append", "two", "empty", "replace", "undo", "undo",
                              "compact", "compact"))  # fmt: skip
        kills = chance.randint(0, 2)
        if not life.loads:
            what = "append"
        if what in ("append", "empty", "replace"):
            life.load(what, kills)
        elif what == "two":
            life.load_two()
        elif what == "undo":
            life.undo(chance.choice(list(life.loads)), kills)
        else:
            words = ["compact", *life.target.words(), "--json"]
            words += chance.choice(([], ["--sort", "toll"], ["--size", "20KiB"]))
            told = life.give(words, kills).json
            assert told["rows"] == expected(*life.loads.values()).total(), told
        life.hold(f"{what} after {kills} kills")
    # All of it goes again, the last first.
    while life.loads and not life.stays:
        last = max(life.loads)
        life.undo(last, 0)
        life.hold(f"undo of {last}")
