"""Random expressions and queries that PostgreSQL reads too. `@N(x)` is x here and a NUMERIC
there, so that / is the same; `@I(x)` an integer of 32 bits there, as dates and lengths take it."""

from __future__ import annotations

import random
from dataclasses import dataclass

# name: (our type, PostgreSQL's, values by row). Small and awkward, so that rows meet, tie, and go missing.
TABLES: dict[str, dict[str, tuple[str, str, list[str | None]]]] = {
    "p": {
        "id": ("INTEGER", "bigint", [str(at) for at in range(1, 13)]),
        "i": ("INTEGER", "bigint", ["1", "2", None, "0", "-3", "2", "7", None, "1", "0", "9007199254740993", "-1"]),
        "d": ("DECIMAL(10,2)", "numeric(10,2)", ["1.50", "2.00", None, "0.00", "-3.25", "100.00", "42.48", "0.10", None, "-0.01", "7.00", "2.00"]),
        "f": ("DOUBLE PRECISION", "float8", ["1.5", "42.48", None, "-0", "NaN", "Infinity", "0", "1e6", "-1e6", "1", "0.1", "-Infinity"]),
        "t": ("TEXT", "text", ["a", "A", None, "", " a", "7", "-2", "Möwe", "a", "ab%", "1e3", "x"]),
        "y": ("DATE", "date", ["2024-02-29", "2023-12-31", None, "2024-03-01", "0004-02-29", "2024-02-29", "9998-12-31", None, "2024-01-31", "1970-01-01",
                               "2024-02-28", "2023-02-28"]),
        "b": ("BOOLEAN", "boolean", ["true", "false", None, "true", "true", None, "false", "false", None, "true", "true", "false"]),
    },
    "q": {
        "id": ("INTEGER", "bigint", [str(at) for at in range(1, 9)]),
        "pid": ("INTEGER", "bigint", ["1", "1", "2", None, "5", "77", "7", "12"]),
        "i": ("INTEGER", "bigint", ["2", None, "0", "1", "-3", "5", "2", "2"]),
        "d": ("DECIMAL(6,3)", "numeric(6,3)", ["1.500", "0.000", None, "42.480", "-3.250", "2.000", "99.999", "2.000"]),
        "f": ("DOUBLE PRECISION", "float8", ["42.48", "1", None, "-1", "0.1", "1e6", "NaN", "0"]),
        "t": ("TEXT", "text", ["a", "b", None, "A", "", "a", "Möwe", "7"]),
        "y": ("DATE", "date", ["2024-02-29", None, "2024-03-01", "2023-12-31", "2024-02-29", "2025-01-01", "1970-01-01", "2024-02-28"]),
    },
    "r": {
        "id": ("INTEGER", "bigint", ["1", "2", "3"]),
        "t": ("TEXT", "text", ["a", None, "q"]),
        "i": ("INTEGER", "bigint", [None, "2", "2"]),
    },
}  # fmt: skip
KINDS = {
    "INTEGER": "i",
    "DECIMAL(10,2)": "d",
    "DECIMAL(6,3)": "d",
    "DOUBLE PRECISION": "f",
    "TEXT": "t",
    "DATE": "y",
    "BOOLEAN": "b",
}
LITERALS = {
    "i": ["0", "1", "2", "-3", "7"], "d": ["0.5", "2.00", "-1.25", "42.48"], "t": ["''", "'a'", "'A'", "'7'", "' a'"],
    "f": ["1e0", "0.5e0", "-2e0"], "y": ["DATE '2024-02-29'", "DATE '1999-12-31'"], "b": ["TRUE", "FALSE"],
}  # fmt: skip


@dataclass(frozen=True)
class Column:
    """What may be named: its text and the kind of its values."""

    text: str
    kind: str


class Expressions:
    """Typed expressions over some columns. A part that can fail always reads a column, so that no planner folds it."""

    def __init__(self, rng: random.Random, columns: list[Column], failing: bool = True) -> None:
        self.rng, self.columns, self.failing = rng, columns, failing

    def leaf(self, kind: str, column: bool = False) -> str:
        """A column or a literal; a condition is never a literal, which a planner could decide before it runs."""
        if kind == "b" and (
            not any(one.kind == "b" for one in self.columns) or self.rng.random() < 0.3
        ):
            return f"({self.rng.choice(self.columns).text} IS NOT NULL)" if self.columns else "TRUE"
        known = [one.text for one in self.columns if one.kind == kind]
        if known and (column or self.rng.random() < 0.8):
            return self.rng.choice(known)
        return self.rng.choice(LITERALS[kind])

    def make(self, kind: str, depth: int) -> str:
        """An expression of a kind."""
        if depth <= 0:
            return self.leaf(kind)
        made: str = getattr(self, f"_{kind}")(depth - 1)
        return made

    def _shared(self, kind: str, depth: int) -> str:
        a, b, c = self.make(kind, depth), self.make(kind, depth), self.make(kind, depth - 1)
        condition = self.make("b", depth)
        return self.rng.choice(
            [
                f"CASE WHEN {condition} THEN {a} ELSE {b} END", f"CASE WHEN {condition} THEN {a} WHEN {self.make('b', depth - 1)} THEN {b} END",
                f"COALESCE({a}, {b})", f"COALESCE({a}, {b}, {c})", f"NULLIF({a}, {b})",
            ]
        )  # fmt: skip

    def _i(self, depth: int) -> str:
        a, b, t = self.make("i", depth), self.make("i", depth), self.make("t", depth)
        column = self.leaf("i", True)
        return self.rng.choice(
            [
                f"({a} + {b})", f"({a} - {b})", f"ABS({a})", f"LENGTH({t})", f"POSITION({self.leaf('t')} IN {t})",
                self._shared("i", depth), self._shared("i", depth), f"({self.make('y', depth)} - {self.leaf('y')})",
                *([f"({column} * {a})", f"MOD({column}, {b})", f"CAST({self.leaf('t', True)} AS BIGINT)"] if self.failing else []),
            ]
        )  # fmt: skip

    def _d(self, depth: int) -> str:
        a, b = self.make("d", depth), self.make(self.rng.choice("di"), depth)
        return self.rng.choice(
            [
                f"({a} + {b})", f"({a} - {b})", f"ROUND({a}, 1)", f"ABS({a})", self._shared("d", depth), f"CAST({self.leaf('i', True)} AS DECIMAL(20,1))",
                *([f"(@N({self.leaf(self.rng.choice('id'), True)}) / {self.leaf(self.rng.choice('id'))})", f"CAST({self.leaf('d', True)} AS DECIMAL(3,1))"] if self.failing else []),
            ]
        )  # fmt: skip

    def _f(self, depth: int) -> str:
        a, b = self.make("f", depth), self.make("f", depth)
        column = self.leaf("f", True)
        return self.rng.choice(
            [
                f"CAST({self.leaf(self.rng.choice('di'), True)} AS DOUBLE PRECISION)", self._shared("f", depth), f"ABS({a})", f"({a} + {b})",
                *([f"SQRT({column})", f"({column} / {b})", f"({column} * {a})"] if self.failing else []),
            ]
        )  # fmt: skip

    def _t(self, depth: int) -> str:
        a, b = self.make("t", depth), self.make("t", depth)
        return self.rng.choice(
            [
                f"({a} || {b})", f"REVERSE({a})", f"TRIM({a})", f"REPLACE({a}, 'a', {self.leaf('t')})", f"LEFT({a}, 2)", self._shared("t", depth),
                f"CAST({self.make('i', depth)} AS TEXT)", f"CONCAT({a}, {b})", f"CAST({self.make('y', depth)} AS TEXT)", f"GREATEST({a}, {a})",
                *([f"CAST({self.leaf('f', True)} AS TEXT)"] if any(one.kind == "f" for one in self.columns) else []), *([f"SUBSTRING({a} FROM 1 FOR @I(MOD({self.leaf('i', True)}, 100)))"] if self.failing else []),
            ]
        )  # fmt: skip

    def _y(self, depth: int) -> str:
        a = self.leaf("y", True)
        return self.rng.choice(
            [
                self._shared("y", depth),
                *([f"({a} + @I(MOD({self.leaf('i', True)}, 100)))"] if self.failing else [a]),
            ]
        )

    def _b(self, depth: int) -> str:
        kind = self.rng.choice("iidftyi")
        a = self.make(kind, depth)
        a = self.leaf(kind, True) if a in LITERALS[kind] else a
        b = self.make(kind if kind in "ty" else self.rng.choice("idf"), depth)
        left, right = self.make("b", depth), self.make("b", depth)
        other = self.leaf("i")
        return self.rng.choice(
            [
                f"{a} {self.rng.choice(['=', '<>', '<', '<=', '>', '>='])} {b}", f"({left} AND {right})", f"({left} OR {right})", f"(NOT {left})",
                f"{a} IS {self.rng.choice(['', 'NOT '])}NULL", f"{a} IS {self.rng.choice(['', 'NOT '])}DISTINCT FROM {b}",
                f"({left}) IS {self.rng.choice(['', 'NOT '])}{self.rng.choice(['TRUE', 'FALSE', 'UNKNOWN'])}",
                f"{a} {self.rng.choice(['', 'NOT '])}IN ({', '.join(self.leaf(kind) for _ in range(3))})",
                f"{a} {self.rng.choice(['', 'NOT '])}BETWEEN {self.rng.choice(['', 'SYMMETRIC '])}{self.leaf(kind)} AND {self.leaf(kind)}",
                f"{self.make('t', depth)} {self.rng.choice(['', 'NOT '])}LIKE {self.rng.choice(['%a%', 'a_', '%', '_'])!r}",
                f"({self.leaf('i', True)}, {self.leaf('t', True)}) {self.rng.choice(['=', '<>', '<', '>='])} ({other}, {self.leaf('t')})",
                f"({self.leaf('i', True)}, {self.leaf('t', True)}) {self.rng.choice(['', 'NOT '])}IN ((1, 'a'), ({other}, {self.leaf('t')}))",
                self._shared("b", depth),
            ]
        )  # fmt: skip


def expression(rng: random.Random) -> str:
    """An expression over the columns of p."""
    columns = [Column(name, KINDS[ours]) for name, (ours, _, _) in TABLES["p"].items()]
    return Expressions(rng, columns).make(rng.choice("iidfftbbby"), rng.choice([1, 2, 2, 3]))


class Queries:
    """Random SELECTs; `portable` ones keep to what SQLite has and means alike: integers and texts, no row is ordered by what ties."""

    def __init__(self, rng: random.Random, portable: bool = False) -> None:
        self.rng, self.portable, self.named = rng, portable, 0

    def _alias(self) -> str:
        self.named += 1
        return f"x{self.named}"

    def table(self) -> tuple[str, list[Column], list[str]]:
        """A table: its text, its columns, those that tell its rows apart."""
        name, alias = self.rng.choice(list(TABLES)), self._alias()
        columns = [
            Column(f"{alias}.{column}", KINDS[ours])
            for column, (ours, _, _) in TABLES[name].items()
            if not self.portable or KINDS[ours] in "it"
        ]
        return f"{name} AS {alias}", columns, [f"{alias}.id"]

    def derived(self, depth: int, lateral: list[Column]) -> tuple[str, list[Column], list[str]]:
        """A query in FROM."""
        text, kinds = self.block(depth - 1, lateral, 2)
        alias = self._alias()
        names = [f"c{at}" for at in range(len(kinds))]
        return f"{'LATERAL ' if lateral else ''}({text}) AS {alias}({', '.join(names)})", [
            Column(f"{alias}.{name}", kind) for name, kind in zip(names, kinds, strict=True)
        ], []  # fmt: skip

    def source(self, depth: int, outer: list[Column]) -> tuple[str, list[Column], list[str]]:
        """A FROM."""
        rng = self.rng
        if depth <= 0 or rng.random() < 0.4:
            return self.table() if depth <= 0 or rng.random() < 0.8 else self.derived(depth, [])
        left, columns, keys = self.source(depth - 1, outer)
        if rng.random() < 0.12 and not self.portable:
            text, more, _ = self.derived(depth, columns)
            return f"{left} {rng.choice(['CROSS JOIN', ','])} {text}", columns + more, []
        right, more, other = self.source(depth - 1, outer)
        both = keys + other if keys and other else []
        equal = self.equality(columns, more)
        kind = rng.choice(
            [
                "JOIN",
                "LEFT JOIN",
                "LEFT JOIN",
                "RIGHT JOIN",
                "FULL JOIN",
                "CROSS JOIN",
                "CROSS JOIN",
            ]
        )
        if kind == "CROSS JOIN":
            right = f"({right})" if " JOIN " in right else right
            return f"{left} CROSS JOIN {right}", columns + more, both
        condition = equal
        if rng.random() < 0.3 and kind != "FULL JOIN":
            condition = f"{equal} AND {Expressions(rng, columns + more, False).make('b', 1)}"
        if " JOIN " in right and rng.random() < 0.5:
            right = f"({right})"
        return f"{left} {kind} {right} ON {condition}", columns + more, both

    def equality(self, left: list[Column], right: list[Column]) -> str:
        """a = b between two sides."""
        pairs = [
            (a, b)
            for a in left
            for b in right
            if a.kind == b.kind or {a.kind, b.kind} <= set("idf")
        ]
        pairs = [(a, b) for a, b in pairs if a.kind not in "b"] or [
            (Column("1", "i"), Column("1", "i"))
        ]
        a, b = self.rng.choice(pairs)
        return f"{a.text} = {b.text}" if self.rng.random() < 0.7 else f"{b.text} = {a.text}"

    def condition(self, columns: list[Column], depth: int) -> str:
        """A condition, with subqueries."""
        rng = self.rng
        plain = Expressions(rng, columns, False).make("b", 1)
        if depth <= 0 or rng.random() < 0.45:
            return plain
        number = rng.choice([one for one in columns if one.kind == "i"] or [Column("1", "i")]).text
        kind = rng.random()
        correlated = columns if rng.random() < 0.6 else []
        if kind < 0.35:
            text, _ = self.block(depth - 1, correlated, 1)
            made = f"{rng.choice(['', 'NOT '])}EXISTS ({text})"
        elif kind < 0.8:
            text, _ = self.block(depth - 1, correlated, 1, "i")
            word = rng.choice(
                ["IN", "NOT IN"]
                if self.portable
                else ["IN", "NOT IN", "= ANY", "<> ALL", "< ANY", ">= ALL", "<> ANY", "> ANY"]
            )
            made = f"{number} {word} ({text})"
        else:
            text, _ = self.block(depth - 1, correlated, 1, "i", single=True)
            made = f"{number} {rng.choice(['=', '<', '>='])} ({text})"
        return rng.choice([made, f"({made} AND {plain})", f"({plain} OR {made})", f"NOT ({made})"])

    def block(
        self, depth: int, outer: list[Column], width: int, kind: str = "", single: bool = False
    ) -> tuple[str, list[str]]:
        """One SELECT, without an order: its text and the kinds of its columns."""
        rng = self.rng
        source, columns, keys = self.source(depth if depth < 2 else 1, outer)
        known = columns + outer
        wheres = [self.condition(known, depth)] if rng.random() < 0.6 else []
        if outer:
            wheres.insert(0, self.equality(columns, outer))
        if "," not in source and rng.random() < 0.15 and keys and depth > 0:
            other, more, _ = self.table()
            wheres.insert(0, self.equality(columns, more))
            source, columns, keys = f"{source}, {other}", columns + more, []
            known = columns + outer
        where = f" WHERE {' AND '.join(wheres)}" if wheres else ""
        kinds = [kind or rng.choice("it" if self.portable else "iidfty") for _ in range(width)]
        shape = rng.random()
        build = Expressions(rng, known, False)
        if single or shape < 0.2:
            items, kinds = self._aggregates(columns, kinds, single or bool(kind))
            having = (
                f" HAVING COUNT(*) > {rng.randint(0, 2)}"
                if rng.random() < 0.2 and not single
                else ""
            )
            return f"SELECT {', '.join(items)} FROM {source}{where}{having}", kinds
        if shape < 0.4:
            grouped = [rng.choice(columns) for _ in range(rng.choice([1, 1, 2]))]
            keyed = list(dict.fromkeys(one.text for one in grouped))
            items, kinds = self._aggregates(columns, kinds, bool(kind))
            if not kind:
                items[0], kinds[0] = grouped[0].text, grouped[0].kind
            if outer and not kind and rng.random() < 0.4:
                around = rng.choice(
                    outer
                )  # a column of the row around it has one value in every group
                items[-1], kinds[-1] = around.text, around.kind
            how = rng.choice(
                ["{}"]
                if self.portable
                else ["{}", "{}", "ROLLUP ({})", "CUBE ({})", "GROUPING SETS (({}), ())"]
            )
            having = rng.choice(
                ["", "", " HAVING COUNT(*) > 1", f" HAVING {rng.choice(items[-1:])} IS NOT NULL"]
            )
            return (
                f"SELECT {', '.join(items)} FROM {source}{where} GROUP BY {how.format(', '.join(keyed))}{having}",
                kinds,
            )
        items = [build.make(one, rng.choice([0, 1, 1, 2])) for one in kinds]
        if shape < 0.6 and not kind:
            items[-1], kinds[-1] = self.window(columns, keys)
        distinct = "DISTINCT " if rng.random() < 0.15 else ""
        return f"SELECT {distinct}{', '.join(items)} FROM {source}{where}", kinds

    def _aggregates(
        self, columns: list[Column], kinds: list[str], whole: bool
    ) -> tuple[list[str], list[str]]:
        made, types = [], []
        for _ in kinds:
            plain = Expressions(self.rng, columns, False)
            inner = plain.make(self.rng.choice("i" if self.portable else "idf"), 1)
            choices = [("COUNT(*)", "i"), (f"COUNT({plain.make('t', 1)})", "i"), (f"MIN({plain.make('i', 1)})", "i"), (f"MAX({plain.leaf('i', True)})", "i"),
                       (f"COUNT(DISTINCT {plain.leaf('t', True)})", "i")]  # fmt: skip
            if not whole:
                choices += [
                    (f"MIN({plain.leaf('t', True)})", "t"),
                    (f"SUM({plain.leaf('i', True)})", "d"),
                ]
            if not whole and not self.portable:
                choices += [
                    (f"SUM({inner})", "d"), (f"AVG({inner})", "d"), (f"{self.rng.choice(['VAR_SAMP', 'STDDEV_POP'])}({plain.leaf('d', True)})", "f"),
                    (f"SUM({plain.leaf('d', True)}) FILTER (WHERE {plain.make('b', 1)})", "d"), (f"MAX({plain.make('y', 1)})", "y"),
                    (f"SUM(DISTINCT {plain.leaf('d', True)})", "d"), (f"EVERY({plain.make('b', 1)})", "b"), (f"MIN({plain.leaf('f', True)})", "f"),
                    (f"PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY {plain.leaf('i', True)})", "i"),
                ]  # fmt: skip
            text, kind = self.rng.choice(choices)
            made.append(text)
            types.append(kind)
        return made, types

    def window(self, columns: list[Column], keys: list[str]) -> tuple[str, str]:
        """A window function: what depends on the order of ties has an order without any."""
        rng = self.rng
        build = Expressions(rng, columns, False)
        part = rng.choice(
            ["", f"PARTITION BY {build.leaf('t', True)} ", f"PARTITION BY {build.leaf('i', True)} "]
        )
        kind = rng.choice("it" if self.portable else "idfty")
        key = build.leaf(kind, True)
        down = rng.choice(["", " DESC"]) + rng.choice(["", " NULLS FIRST", " NULLS LAST"])
        if self.portable:
            down = rng.choice([" NULLS LAST", " DESC NULLS FIRST"])
        exclude = rng.choice(
            ["", "", "", " EXCLUDE CURRENT ROW", " EXCLUDE GROUP", " EXCLUDE TIES"]
        )
        if keys and rng.random() < 0.6:
            order = f"ORDER BY {key}{down}, {', '.join(f'{one} NULLS LAST' for one in keys)}"
            frame = rng.choice(
                ["", f"ROWS BETWEEN {rng.choice(ROW_BOUNDS)}{exclude}", "ROWS 1 PRECEDING"]
            )
            value = build.leaf(rng.choice("it" if self.portable else "idft"), True)
            typed = next(
                (one.kind for one in columns if one.text == value),
                "t" if value.startswith("'") else "i",
            )
            if rng.random() < 0.5:
                name = rng.choice(
                    [f"FIRST_VALUE({value})", f"LAST_VALUE({value})", f"NTH_VALUE({value}, 2)"]
                )
                return f"{name} OVER ({part}{order} {frame})", typed
            name, made = rng.choice(
                [
                    ("ROW_NUMBER()", "i"),
                    ("NTILE(3)", "i"),
                    (f"LAG({value})", typed),
                    (f"LEAD({value}, 2)", typed),
                    ("RANK()", "i"),
                ]
            )
            return f"{name} OVER ({part}{order})", made
        frame = ""
        if not self.portable:
            bounds = [*ROW_BOUNDS]
            frame = rng.choice(
                [
                    "",
                    f"GROUPS BETWEEN {rng.choice(bounds)}{exclude}",
                    f"RANGE BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW{exclude}",
                ]
            )
            if kind in "idf" and key[0] == "x" and rng.random() < 0.6:
                frame = f"RANGE BETWEEN {rng.choice(['1', '0', '2.5', '3'] if kind == 'd' else ['1', '2', '0'])} PRECEDING AND {rng.choice(['1', '4'])} FOLLOWING{exclude}"
            elif kind == "y" and key[0] == "x" and rng.random() < 0.6:
                frame = f"RANGE BETWEEN INTERVAL '{rng.choice(['1 day', '1 month'])}' PRECEDING AND INTERVAL '2 days' FOLLOWING{exclude}"
        value = build.leaf(rng.choice("i" if self.portable else "idf"), True)
        choices = [
            ("COUNT(*)", "i"),
            (f"MIN({build.leaf('t', True)})", "t"),
            (f"SUM({value})", "d"),
            (f"COUNT({value})", "i"),
            ("DENSE_RANK()", "i"),
        ]
        if not self.portable:
            choices += [(f"AVG({value})", "d"), (f"MAX({value})", "d"), ("CUME_DIST()", "f"), (f"SUM({value}) FILTER (WHERE {build.make('b', 1)})", "d"),
                        (f"STDDEV_SAMP({build.leaf('d', True)})", "f")]  # fmt: skip
        name, made = rng.choice(choices)
        frame = "" if name in ("DENSE_RANK()", "CUME_DIST()") else frame
        return f"{name} OVER ({part}ORDER BY {key}{down} {frame})", made

    def query(self) -> tuple[str, bool]:
        """A whole query, and whether its rows have an order."""
        rng = self.rng
        if not self.portable and rng.random() < 0.2:
            return self.failing(), False
        depth, width = rng.choice([0, 1, 1, 2]), rng.choice([1, 2, 3])
        text, kinds = self.block(depth, [], width)
        shape = rng.random()
        if shape < 0.2:
            kinds = [rng.choice("it") for _ in range(width)]
            sides = [
                self._plain(kinds, depth) for _ in range(2 if self.portable else rng.choice([2, 3]))
            ]
            words = ["UNION", "UNION ALL", "INTERSECT", "EXCEPT"] + (
                [] if self.portable else ["INTERSECT ALL", "EXCEPT ALL"]
            )
            text = sides[0] if self.portable or rng.random() < 0.5 else f"({sides[0]})"
            for side in sides[1:]:
                text += f" {rng.choice(words)} " + (
                    side if self.portable or rng.random() < 0.5 else f"({side})"
                )
        elif shape < 0.3 and not self.portable:
            inner = self._alias()
            text = f"WITH {inner} AS ({text}) SELECT * FROM {inner}"
        # A value of every column, so that no two rows are in doubt.
        order = ", ".join(
            f"{at + 1}{rng.choice(['', ' DESC'])}{'' if self.portable else rng.choice(['', ' NULLS FIRST'])}"
            for at in range(len(kinds))
        )
        if self.portable:
            return text, False
        limit = rng.choice(
            [
                "",
                "",
                "",
                " LIMIT 3",
                " OFFSET 1 ROWS FETCH FIRST 2 ROWS ONLY",
                " LIMIT 1 + 1 OFFSET 1",
            ]
        )
        return f"{text} ORDER BY {order}{limit}", True

    def failing(self) -> str:
        """A query in which some row may have an error that a result or a condition reads."""
        rng = self.rng
        source, keys = "p AS z0", ["z0.id"]
        columns = [
            Column(f"z0.{column}", KINDS[ours]) for column, (ours, _, _) in TABLES["p"].items()
        ]
        build = Expressions(rng, columns)
        kind = rng.choice("iidf")
        text, plain = build.make(kind, 2), Expressions(rng, columns, False)
        number = plain.leaf("i", True)
        guard = f"COALESCE({{}}, {rng.choice(LITERALS[kind])})"
        forms = [
            f"SELECT {text} FROM {source} WHERE {plain.make('b', 1)}", f"SELECT {keys[0]} FROM {source} WHERE {build.make('b', 2)}",
            f"SELECT {guard.format(f'MAX({text})')} FROM {source}", f"SELECT {number}, COUNT({text}), SUM({text}) FROM {source} GROUP BY {number}",
            f"SELECT SUM({text}) FILTER (WHERE {plain.make('b', 1)}) FROM {source}", f"SELECT {guard.format(f'SUM({text}) OVER (ORDER BY {keys[0]})')} FROM {source}",
            f"SELECT CASE WHEN c0 IS NULL THEN 1 ELSE 2 END FROM (SELECT {text} AS c0 FROM {source} OFFSET 0) AS z",
            f"SELECT 1 FROM {source} WHERE {keys[0]} IN (SELECT {build.make('i', 2)} FROM {source})",
            f"SELECT {keys[0]} FROM {source} WHERE {plain.make('b', 1)} AND {build.make('b', 2)}", f"SELECT COUNT(*) FROM {source} GROUP BY {text}",
            f"SELECT LAG({number}) OVER (ORDER BY {text}, {keys[0]}) IS NULL FROM {source}", f"SELECT CASE WHEN {plain.make('b', 1)} THEN {text} ELSE 0 END FROM {source}",
            f"SELECT {keys[0]}, (SELECT {guard.format(f'MIN({text})')} FROM q AS z WHERE z.pid = {keys[0]}) FROM {source}",
            f"SELECT DISTINCT {text} FROM {source}", f"SELECT {text} FROM {source} UNION SELECT 1",
        ]  # fmt: skip
        return rng.choice(forms)

    def _plain(self, kinds: list[str], depth: int) -> str:
        source, columns, _ = self.source(min(depth, 1), [])
        build = Expressions(self.rng, columns, False)
        where = f" WHERE {self.condition(columns, depth)}" if self.rng.random() < 0.5 else ""
        return f"SELECT {', '.join(build.make(kind, 1) for kind in kinds)} FROM {source}{where}"


ROW_BOUNDS = [
    "UNBOUNDED PRECEDING AND CURRENT ROW", "1 PRECEDING AND 1 FOLLOWING", "UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING", "2 PRECEDING AND 1 PRECEDING",
    "1 FOLLOWING AND 2 FOLLOWING", "CURRENT ROW AND UNBOUNDED FOLLOWING", "CURRENT ROW AND CURRENT ROW", "9223372036854775807 PRECEDING AND CURRENT ROW",
]  # fmt: skip


def here(text: str) -> str:
    """The text as Gravel reads it."""
    return text.replace("@N(", "(").replace("@I(", "(")


def there(text: str) -> str:
    """The text as PostgreSQL reads it."""
    return text.replace("@N(", '"numeric"(').replace("@I(", "int4(")
