"""Hand-made files of every kind of oddity, with the names and cells that must come out of them."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Case:
    """A file, and what must come of it.

    `cells` are the first records as text, None for no value. `said` must be among the notes.
    `types` are those of fields by name.
    """

    content: str | bytes
    names: tuple[str, ...]
    cells: tuple[tuple[str | None, ...], ...]
    said: tuple[str, ...] = ()
    types: dict[str, str] = field(default_factory=dict)
    rows: int | None = None
    bad: int = 0

    @property
    def data(self) -> bytes:
        """The file's bytes."""
        return self.content if isinstance(self.content, bytes) else self.content.encode()


def _rows(count: int, form: str) -> str:
    return "".join(form.format(n=n, m=n % 60, s=n % 3, d=n % 28 + 1) for n in range(1, count + 1))


CASES: dict[str, Case] = {
    # Headers with a blank, repeated, number- or date-like name.
    "data-frame": Case(",a,b\n" + _rows(30, "{n},{n}.5,x{s}\n"), ("column_1", "a", "b"),
                       (("1", "1.5", "x1"),), ("no name",)),
    "quoted-blank": Case('"","lock","toll"\n' + _rows(30, '"{n}","Low Weir",{n}.25\n'),
                         ("column_1", "lock", "toll"), (("1", "Low Weir", "1.25"),)),
    "last-blank": Case("id,name,\n" + _rows(9, "{n},n{n},\n"), ("id", "name", "column_3"),
                       (("1", "n1", None),)),
    "twice": Case("id,name,name\n" + _rows(9, "{n},a{n},b{n}\n"), ("id", "name", "name_2"),
                  (("1", "a1", "b1"),), ("like one before",)),
    "case-twice": Case("Id,ID\n" + _rows(9, "{n},b{n}\n"), ("Id", "ID_2"), (("1", "b1"),)),
    "years": Case("reach,1990,1991\n" + _rows(9, "Reach {n},{n}7,{n}9\n"),
                  ("reach", "1990", "1991"), (("Reach 1", "17", "19"),)),
    "days": Case("gauge,2031-01-01,2031-01-02\n" + _rows(9, "G{n},{n}7,{n}9\n"),
                 ("gauge", "2031-01-01", "2031-01-02"), (("G1", "17", "19"),)),
    "row-names": Case("toll boats\n" + _rows(9, '"Weir {n}" {n} {n}0\n'),
                      ("column_1", "toll", "boats"), (("Weir 1", "1", "10"),)),
    "long-field-below-a-title": Case(
        '\n# by hand\nTitle of it\nn,,t\n1,,"' + "x" * (10 << 20) + '"\n2,,y\n3,,z\n',
        ("n", "column_2", "t"), (("1", None, "x" * (10 << 20)), ("2", None, "y")), rows=3),
    "long-field": Case('n,t\n1,"' + "x" * (10 << 20) + '"\n2,y\n', ("n", "t"),
                       (("1", "x" * (10 << 20)), ("2", "y")), rows=2),
    "no-header": Case(_rows(20, "{n},n{n},{n}.5\n"), ("field_1", "field_2", "field_3"),
                      (("1", "n1", "1.5"),), ("no header",)),
    "text-header": Case("lock,keeper\n" + "Upper,Ann\nLower,Bob\nFen,Cid\n" * 4,
                        ("lock", "keeper"), (("Upper", "Ann"),)),
    "ends-with-delimiter": Case("a,b\n" + _rows(9, "{n},x{n},\n"), ("a", "b", "column_3"),
                                (("1", "x1", None),)),
    "header-ends-with-delimiter": Case("a,b,\n" + _rows(9, "{n},x{n}\n"), ("a", "b"),
                                       (("1", "x1"),)),
    # The widest split must not win.
    "times": Case(_rows(40, "{n},10:{m:02d}:00\n"), ("field_1", "field_2"), (("1", "10:01:00"),),
                  types={"field_2": "time"}),
    "addresses": Case("n,mac\n" + _rows(40, "{n},00:1a:2b:3c:4d:{m:02d}\n"), ("n", "mac"),
                      (("1", "00:1a:2b:3c:4d:01"),)),
    "urls": Case("n,at\n" + _rows(40, "{n},http://h.example:80{m:02d}/a?b=c&d=e\n"), ("n", "at"),
                 (("1", "http://h.example:8001/a?b=c&d=e"),)),
    "exponents": Case("n,v\n" + _rows(40, "{n},1.5e-{s}\n"), ("n", "v"), (("1", "0.15"),),
                      types={"v": "number"}),
    "places": Case("n\tplace\tv\n" + _rows(40, "{n}\tRome, Lazio, Italy\t{m}\n"),
                   ("n", "place", "v"), (("1", "Rome, Lazio, Italy", "1"),)),
    "comma-decimals": Case("n;v\n" + _rows(40, "{n};{m},25\n"), ("n", "v"), (("1", "1.25"),),
                           ("decimal comma",)),
    "two-bars": Case("n||v||w\n" + _rows(40, "{n}||||{m}\n"), ("n", "v", "w"),
                     (("1", None, "1"),)),
    "dates-alone": Case("day\n" + _rows(40, "{d:02d}/03/2031\n"), ("day",), (("2031-03-02",),)),
    "bars": Case("n|t\n" + _rows(30, "{n}|x, y; z\n"), ("n", "t"), (("1", "x, y; z"),)),
    "blanks": Case("name      level  lock\n" + _rows(30, "g{n:<9}{m:<7}L{s}\n"),
                   ("name", "level", "lock"), (("g1", "1", "L1"),)),
    "fixed": Case(
        "place          level\n" + _rows(30, "New Weir {n:<6}{m:>5}\n"), ("place", "level"),
        (("New Weir 1", "1"),), ("characters wide",)),
    "blank-quotes": Case('n, t\n' + _rows(30, '{n}, "a, b"\n'), ("n", "t"), (("1", "a, b"),)),
    "single-quotes": Case("n,t\n" + _rows(30, "{n},'a, b'\n"), ("n", "t"), (("1", "a, b"),)),
    "escapes": Case('n,t\n' + _rows(30, '{n},"a \\"b\\" c"\n'), ("n", "t"), (("1", 'a "b" c'),)),
    # Values that must come back as they were written.
    "one-padded": Case("code\n" + "12345\n" * 120 + "01234\n", ("code",), (("12345",),),
                       ("leading zeros",), {"code": "string"}),
    "phones": Case("phone\n" + _rows(30, "+49176{n:05d}\n"), ("phone",), (("+4917600001",),),
                   ("plus sign",), {"phone": "string"}),
    "long-digits": Case("v\n" + _rows(30, "1234567890123456789012345678{n:02d}.5\n"), ("v",),
                        (("123456789012345678901234567801.5",),)),
    "too-long-digits": Case("v\n" + _rows(9, "{n}" + "7" * 40 + "\n"), ("v",),
                            (("1" + "7" * 40,),), ("kept as text",), {"v": "string"}),
    "one-decimal": Case("v\n" + "5\n" * 120 + "5.5\n", ("v",), (("5",),)),
    "big-ids": Case("id\n" + _rows(9, "900000000000000000{n}\n"), ("id",),
                    (("9000000000000000001",),), types={"id": "integer"}),
    "no-dates": Case("day\n" + "2020-31-12\n" * 20, ("day",), (("2020-31-12",),),
                     types={"day": "string"}),
    "midnight": Case("at\n" + "24:00\n" * 20, ("at",), (("24:00",),), types={"at": "string"}),
    "own-nulls": Case("country,v\n" + "NA,1\nDE,NA\nFR,3\n" * 20, ("country", "v"),
                      (("NA", "1"), ("DE", None)), ("kept as text", "no value")),
    "percent": Case("v\n" + _rows(20, "{m}.5%\n"), ("v",), (("1.5",),), ("per cent",)),
    "currency": Case("v\n" + _rows(20, '"$1,{n:03d}.50"\n'), ("v",), (("1001.5",),), ("$",)),
    "brackets": Case("v\n" + "(1.50)\n2.25\n" * 20, ("v",), (("-1.5",), ("2.25",)), ("brackets",)),
    "zones": Case("at\n" + _rows(20, "2031-05-06T10:{m:02d}:00+02:00\n"), ("at",),
                  (("2031-05-06 08:01:00",),), ("UTC",)),
    "months": Case("day\n" + _rows(20, "{d:02d}-Mar-2031\n"), ("day",), (("2031-03-02",),)),
    "halves": Case("at\n" + _rows(20, "{d:02d}/03/2031 04:{m:02d} PM\n"), ("at",),
                   (("2031-03-02 16:01:00",),)),
    "words": Case("open\n" + "ja\nnein\n" * 20, ("open",), (("true",), ("false",)),
                  types={"open": "boolean as ja or nein"}),
    "one-digit-hours": Case("at\n" + "4:14:00\n14:05:10\n" * 9, ("at",), (("04:14:00",),),
                            types={"at": "time"}),
    "json-empty-text": Case('{"at": "2031-01-02", "n": "x"}\n{"at": "", "n": ""}\n' * 9,
                            ("at", "n"), (("2031-01-02", "x"), (None, ""))),
    "durations": Case("took\n" + _rows(9, "26:1{s}:0{s}\n"), ("took",), (("26:11:01",),),
                      ("format duration",), {"took": "string"}),
    "since-1970": Case("seen_at\n" + _rows(9, "190000000{n}\n"), ("seen_at",), (("1900000001",),),
                       ("format epoch",), {"seen_at": "integer"}),
    # What stands around the records.
    "title": Case("Tolls of the Larkmere\n\nid,name\n" + _rows(20, "{n},n{n}\n"), ("id", "name"),
                  (("1", "n1"),), ("before the header",)),
    "sheet-title": Case("Tolls of the Larkmere,,\nid,name,v\n" + _rows(20, "{n},n{n},{m}\n"),
                        ("id", "name", "v"), (("1", "n1", "1"),)),
    "comments": Case("# by hand, in spring\nid,name\n1,a\n# left out, for now, yes\n2,b\n3,c\n",
                     ("id", "name"), (("1", "a"), ("2", "b"))),
    "sep": Case("sep=;\nid;name\n" + _rows(20, "{n};n,{n}\n"), ("id", "name"), (("1", "n,1"),)),
    "footer": Case("id,name,v\n" + _rows(20, "{n},n{n},{m}\n") + "\nSource: the weir keeper\n",
                   ("id", "name", "v"), (("1", "n1", "1"),), ("behind the records",), rows=20),
    "last-row-with-blanks": Case("id,name,v\n" + _rows(9, "{n},n{n},{m}\n") + "Upper weir gate,,\n",
                                 ("id", "name", "v"), (("1", "n1", "1"),), rows=10),
    "ragged": Case("a,b,c\n" + "1,x\n2,y,z\n3,w,v\n" * 9, ("a", "b", "c"),
                   (("1", "x", None), ("2", "y", "z")), ("leave out",)),
    "header-only": Case("a,b,c\n", ("a", "b", "c"), (), rows=0),
    "long-header": Case("a,b,c,d\n" + _rows(9, "{n},x,y\n"), ("a", "b", "c", "d"),
                        (("1", "x", "y", None),)),
    # Encodings and line ends.
    "cr": Case("a,b\r" + "1,x\r2,y\r" * 9, ("a", "b"), (("1", "x"), ("2", "y"))),
    "crlf": Case("a,b\r\n" + "1,x\r\n2,y\r\n" * 9, ("a", "b"), (("1", "x"),)),
    "utf-16": Case(("a,b\n" + "1,ä\n2,ö\n" * 9).encode("utf-16"), ("a", "b"), (("1", "ä"),)),
    "utf-16-bare": Case(("a,b\r\n" + "1,ä\r\n2,ö\r\n" * 9).encode("utf-16-be"), ("a", "b"),
                        (("1", "ä"),)),
    "utf-32": Case(("a,b\n" + "1,ä\n2,ö\n" * 9).encode("utf-32"), ("a", "b"), (("1", "ä"),)),
    "western": Case(("a,b\n" + "1,x\n" * 40 + "2,é\n").encode("cp1252"), ("a", "b"), (("1", "x"),),
                    ("cp1252",)),
    "marked": Case(b"\xef\xbb\xbfa,b\n1,x\n2,y\n", ("a", "b"), (("1", "x"),)),
    "open-quote": Case("n,t\n" + _rows(40, "{n},  x{n}\n") + '41,"open\n', ("n", "t"),
                       (("1", "x1"),), bad=1, rows=41),
    "quoted-blanks": Case("n,t\n" + "1, x \n2,\" y \"\n3, z \n" * 9, ("n", "t"),
                          (("1", "x"), ("2", " y ")), ("trimmed",)),
    # JSON of several lines.
    "json-array": Case('[{"a": 1, "b": "x"},\n {"a": 2.5, "b": "y, [z]"}]\n', ("a", "b"),
                       (("1", "x"), ("2.5", "y, [z]"))),
    "json-pretty": Case('{\n  "a": 1,\n  "b": {"c": [1, 2]}\n}\n{\n  "a": 2,\n  "b": {}\n}\n',
                        ("a", "b"), (("1", '{"c":[1,2]}'), ("2", "{}"))),
    "json-glued": Case('{"a": 1}{"a": 2} {"a": 3}\n', ("a",), (("1",), ("2",), ("3",))),
    "json-mixed": Case('{"a": 1}\n{"a": "x"}\n{"a": {"b": 1}}\n{"a": null}\n   \n', ("a",),
                       (("1",), ("x",), ('{"b":1}',), (None,)), ("several kinds",), rows=4),
    "json-odd": Case('{"a": "ok"}\n{"a": "\\ud83d"}\n{"a": "\\u0000"}\n{"a": "\\ud83d\\ude00"}\n'
                     + '{"a": ' + "[" * 2000 + "]" * 2000 + "}\n", ("a",), (("ok",), ("😀",)),
                     rows=5, bad=3),
    "json-case": Case('{"Id": 1, "ID": 2}\n' * 9, ("Id", "ID"), (("1", "2"),), ("only in case",)),
    "json-numbers": Case('{"a": 1}\n{"a": 2.5}\n' * 9, ("a",), (("1",), ("2.5",))),
}  # fmt: skip
