"""What hangs on a PostgreSQL table besides its columns: carried over to a twin, or named.

A table that takes another's place must be to everybody what that one was: its owner, rights,
policies, comments, settings, numbers and the names of its indexes.
"""

from __future__ import annotations

import hashlib
from typing import Any

from splarn.core.target.names import sibling
from splarn.engines.sql.link import Link
from splarn.engines.sql.tables import rest_of_index

# What cannot be carried over, each as a sentence about `:name`.
_TIES = """
WITH t AS (SELECT c.* FROM pg_class c WHERE c.oid = to_regclass(:name))
SELECT 'it is a partition of ' || inhparent::regclass FROM pg_inherits, t
    WHERE inhrelid = t.oid AND relispartition
UNION ALL SELECT 'it inherits from ' || inhparent::regclass FROM pg_inherits, t
    WHERE inhrelid = t.oid AND NOT relispartition
UNION ALL SELECT 'it is partitioned' FROM t WHERE relkind = 'p'
UNION ALL SELECT 'the table ' || inhrelid::regclass || ' inherits from it' FROM pg_inherits, t
    WHERE inhparent = t.oid AND relkind <> 'p'
UNION ALL SELECT DISTINCT 'the view ' || c.relname || ' shows it' FROM t, pg_depend d
    JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class c ON c.oid = r.ev_class
    WHERE d.classid = 'pg_rewrite'::regclass AND d.refobjid = t.oid AND c.oid <> t.oid
UNION ALL SELECT 'it has the rule ' || rulename FROM pg_rewrite, t WHERE ev_class = t.oid
UNION ALL SELECT 'a foreign key of ' || conrelid::regclass || ' refers to it' FROM pg_constraint, t
    WHERE confrelid = t.oid AND contype = 'f'
UNION ALL SELECT 'it has the foreign key ' || conname FROM pg_constraint, t
    WHERE conrelid = t.oid AND contype = 'f'
UNION ALL SELECT 'it has the trigger ' || tgname FROM pg_trigger, t
    WHERE tgrelid = t.oid AND NOT tgisinternal
UNION ALL SELECT 'it owns the sequence ' || d.objid::regclass FROM pg_depend d, t
    WHERE d.refobjid = t.oid AND d.deptype = 'a' AND d.classid = 'pg_class'::regclass
    AND (SELECT relkind FROM pg_class WHERE oid = d.objid) = 'S'
UNION ALL SELECT 'the publication ' || pubname || ' publishes it' FROM pg_publication p
    JOIN pg_publication_rel r ON r.prpubid = p.oid, t WHERE r.prrelid = t.oid
UNION ALL SELECT 'it has the statistics ' || stxname FROM pg_statistic_ext, t WHERE stxrelid = t.oid
UNION ALL SELECT 'its replica identity is an index' FROM t WHERE relreplident = 'i'
UNION ALL SELECT 'it is a table of the type ' || reloftype::regtype FROM t WHERE reloftype <> 0
UNION ALL SELECT 'it has a security label' FROM pg_seclabel, t
    WHERE objoid = t.oid AND classoid = 'pg_class'::regclass
UNION ALL SELECT DISTINCT pg_describe_object(d.classid, d.objid, d.objsubid) || ' uses its rows'
    FROM pg_depend d, t JOIN pg_type y ON y.oid = t.reltype
    WHERE d.refclassid = 'pg_type'::regclass AND d.refobjid IN (y.oid, y.typarray)
    AND d.deptype = 'n'
UNION ALL SELECT DISTINCT pg_describe_object(d.classid, d.objid, d.objsubid) || ' depends on it'
    FROM pg_depend d, t WHERE d.refclassid = 'pg_class'::regclass AND d.refobjid = t.oid
    AND d.deptype = 'n' AND d.classid = 'pg_proc'::regclass
"""


def ties(link: Link, table: str) -> list[str]:
    """What would stay with the old table when another took its name, in words."""
    answer = link.run(_TIES, name=link.quoted(table))
    return list(dict.fromkeys(row[0] for row in answer.rows))


def carry_over(link: Link, table: str, twin: str) -> None:
    """Gives a twin what its table has and what can be given; may be done again."""
    names = {"name": link.quoted(table), "twin": link.quoted(twin)}
    (mine, its) = (_facts(link, names[key]) for key in ("name", "twin"))
    where = link.quoted(twin)
    if mine["owner"] != its["owner"]:
        link.run(f"ALTER TABLE {where} OWNER TO {_name(link, mine['owner'])}")
    if mine["persistence"] != its["persistence"]:
        kind = "UNLOGGED" if mine["persistence"] == "u" else "LOGGED"
        link.run(f"ALTER TABLE {where} SET {kind}")
    if mine["tablespace"] != its["tablespace"]:
        link.run(f"ALTER TABLE {where} SET TABLESPACE {_name(link, mine['tablespace'])}")
    for option in mine["options"] or ():
        key, _, value = option.partition("=")
        link.run(f"ALTER TABLE {where} SET ({key} = {_text(value)})")
    identities = {"f": "FULL", "n": "NOTHING"}
    if mine["replica"] != its["replica"] and mine["replica"] in identities:
        link.run(f"ALTER TABLE {where} REPLICA IDENTITY {identities[mine['replica']]}")
    if mine["comment"] != its["comment"]:
        link.run(f"COMMENT ON TABLE {where} IS {_text(mine['comment'])}")
    _policies(link, names, where)
    if mine["guarded"] != its["guarded"]:
        link.run(f"ALTER TABLE {where} {'ENABLE' if mine['guarded'] else 'DISABLE'} "
                    "ROW LEVEL SECURITY")  # fmt: skip
    if mine["forced"] != its["forced"]:
        link.run(f"ALTER TABLE {where} {'' if mine['forced'] else 'NO '}FORCE "
                    "ROW LEVEL SECURITY")  # fmt: skip
    _rights(link, names, where)


def _facts(link: Link, quoted: str) -> dict[str, Any]:
    row = link.run(
        "SELECT pg_get_userbyid(relowner), relpersistence::text, "
        "coalesce(s.spcname, (SELECT spcname FROM pg_tablespace p JOIN pg_database d "
        "ON d.dattablespace = p.oid WHERE datname = current_database())), reloptions, "
        "relreplident::text, obj_description(c.oid, 'pg_class'), relrowsecurity, "
        "relforcerowsecurity FROM pg_class c LEFT JOIN pg_tablespace s ON s.oid = reltablespace "
        "WHERE c.oid = to_regclass(:name)",
        name=quoted,
    ).rows[0]
    keys = ("owner", "persistence", "tablespace", "options", "replica", "comment", "guarded",
            "forced")  # fmt: skip
    return dict(zip(keys, row, strict=True))


def _policies(link: Link, names: dict[str, str], where: str) -> None:
    answer = link.run(
        "SELECT polname, polcmd::text, polpermissive, "
        "(SELECT array_agg(CASE WHEN r = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(r)) END) "
        "FROM unnest(polroles) r), pg_get_expr(polqual, polrelid), "
        "pg_get_expr(polwithcheck, polrelid) FROM pg_policy p WHERE polrelid = to_regclass(:name) "
        "AND NOT EXISTS (SELECT 1 FROM pg_policy o WHERE o.polrelid = to_regclass(:twin) "
        "AND o.polname = p.polname)",
        **names,
    )
    commands = {"r": "SELECT", "a": "INSERT", "w": "UPDATE", "d": "DELETE", "*": "ALL"}
    for name, command, permissive, roles, using, check in answer.rows:
        link.run(
            f"CREATE POLICY {_name(link, name)} ON {where} "
            f"AS {'PERMISSIVE' if permissive else 'RESTRICTIVE'} FOR {commands[command]} "
            f"TO {', '.join(roles)}"
            + (f" USING ({using})" if using else "")
            + (f" WITH CHECK ({check})" if check else "")
        )


_RIGHTS = """
SELECT coalesce(r.rolname, ''), a.privilege_type, a.is_grantable, NULL FROM pg_class c,
    aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee
    WHERE c.oid = to_regclass(:name) AND a.grantee <> c.relowner
UNION ALL SELECT coalesce(r.rolname, ''), a.privilege_type, a.is_grantable, attname
    FROM pg_class c JOIN pg_attribute t ON t.attrelid = c.oid AND NOT attisdropped,
    aclexplode(t.attacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee
    WHERE c.oid = to_regclass(:name) AND a.grantee <> c.relowner
"""


def _rights(link: Link, names: dict[str, str], where: str) -> None:
    """Rights of others; those that new tables get by default and this one lacks are taken away."""
    wanted, given = (
        {tuple(row) for row in link.run(_RIGHTS, name=names[key]).rows} for key in ("name", "twin")
    )
    for verb, rights in (("REVOKE", given - wanted), ("GRANT", wanted - given)):
        for role, right, grantable, column in rights:
            whom = "PUBLIC" if not role else _name(link, role)
            on = f"{right} ({_name(link, column)})" if column else right
            if verb == "REVOKE":
                link.run(f"REVOKE {on} ON {where} FROM {whom}")
            else:
                more = " WITH GRANT OPTION" if grantable else ""
                link.run(f"GRANT {on} ON {where} TO {whom}{more}")


def go_on_numbering(link: Link, table: str, twin: str) -> None:
    """Lets the twin's identity columns go on where the table's are."""
    answer = link.run(
        "SELECT attname, pg_get_serial_sequence(:name, attname), "
        "pg_get_serial_sequence(:twin, attname) FROM pg_attribute "
        "WHERE attrelid = to_regclass(:name) AND attidentity <> '' AND NOT attisdropped",
        name=link.quoted(table),
        twin=link.quoted(twin),
    )
    for _, mine, its in answer.rows:
        if mine is not None and its is not None:
            link.run(f"SELECT setval('{_literal(its)}', last_value, is_called) FROM {mine}")


def take_names(link: Link, table: str, before: str) -> None:
    """Gives the indexes of a table the names that those alike have in the one it took the place of.

    Those that it lacks are made, unless they refuse rows: such were told apart beforehand.
    """
    new = {rest_of_index(statement): name for name, statement, _ in _indexes(link, table)}
    for name, statement, refuses in _indexes(link, before):
        definition = rest_of_index(statement)
        if definition not in new and refuses:
            continue
        mark = hashlib.sha256(f"{before} {name}".encode()).hexdigest()[:6]
        away = f"{name.encode()[:56].decode(errors='ignore')}_{mark}"
        _rename(link, before, name, away)
        if definition in new:
            _rename(link, table, new[definition], name)
        else:
            link.run(f"CREATE INDEX {_name(link, name)} ON {link.quoted(table)}{definition}")


def _indexes(link: Link, table: str) -> list[tuple[str, str, bool]]:
    answer = link.run(
        "SELECT c.relname, pg_get_indexdef(i.indexrelid), i.indisunique OR i.indisexclusion "
        "FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid "
        "WHERE i.indrelid = to_regclass(:name) ORDER BY c.relname",
        name=link.quoted(table),
    )
    return [tuple(row) for row in answer.rows]


def _rename(link: Link, table: str, index: str, name: str) -> None:
    where = link.quoted(sibling(table, index))
    link.run(f"ALTER INDEX {where} RENAME TO {_name(link, name)}")


def _name(link: Link, name: str) -> str:
    return link.quoted(name, dotted=False)


def _text(value: str | None) -> str:
    return "NULL" if value is None else f"'{_literal(value)}'"


def _literal(value: str) -> str:
    return value.replace("'", "''")
