"""The functions that formulas know: how each is written, what it takes, what it gives, and an example that is
tested.

What a function is, in the words of its documentation, stands here once; `docs/formulas.md` lists all of them,
and the tests work out every example.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from kivvet.core.words.values import ValueType

#: What an argument may be: a type, "number" for any number, "any", or "same": of one type with the others like it.
Kind = Literal["text", "integer", "number", "boolean", "date", "datetime", "moment", "any", "same"]


@dataclass(frozen=True, slots=True)
class Function:
    """One function.

    Attributes
    ----------
    name : str
    takes : tuple of str
        The kind of each argument.
    gives : str
        The type of the result, "same" for the common type of the arguments, "first" for that of the first.
    says : str
        What it does, for the documentation.
    example, result : str
        A formula on constants, and its value as text.
    n_optional : int
        How many of the last arguments may be left out.
    repeats : bool
        Whether the last argument may be repeated.
    is_window : bool
        Whether it needs OVER.
    """

    name: str
    takes: tuple[Kind, ...]
    gives: ValueType | Literal["same", "first"]
    says: str
    example: str
    result: str
    n_optional: int = 0
    repeats: bool = False
    is_window: bool = False


_F = Function
_ROWS = (
    _F("ABS", ("number",), "first", "the size of a number, without its sign", "ABS(-3)", "3"),
    _F("SIGN", ("number",), "integer", "-1, 0 or 1", "SIGN(-2.5)", "-1"),
    _F(
        "ROUND",
        ("number", "integer"),
        "first",
        "rounded to n digits after the point (0 if left out), half away from zero",
        "ROUND(2.345, 2)",
        "2.35",
        1,
    ),
    _F("FLOOR", ("number",), "first", "the largest whole number not above", "FLOOR(-1.5)", "-2"),
    _F("CEILING", ("number",), "first", "the smallest whole number not below", "CEILING(-1.5)", "-1"),
    _F(
        "TRUNCATE",
        ("number", "integer"),
        "first",
        "cut to n digits after the point (0 if left out)",
        "TRUNCATE(-1.79, 1)",
        "-1.7",
        1,
    ),
    _F(
        "MOD",
        ("number", "number"),
        "same",
        "the remainder of a division, with the sign of the first; by 0 missing",
        "MOD(-7, 3)",
        "-1",
    ),
    _F(
        "POWER",
        ("number", "number"),
        "number",
        "the first to the power of the second; missing where that is no number",
        "POWER(2, 10)",
        "1024",
    ),
    _F("SQRT", ("number",), "number", "the square root; of a negative number missing", "SQRT(6.25)", "2.5"),
    _F("EXP", ("number",), "number", "e to the power of a number", "EXP(0)", "1"),
    _F("LN", ("number",), "number", "the natural logarithm; of 0 and below missing", "LN(1)", "0"),
    _F(
        "LOG10", ("number",), "number", "the logarithm to base 10; of 0 and below missing", "LOG10(1000)", "3"
    ),
    _F(
        "GREATEST",
        ("same", "same"),
        "same",
        "the greatest of the arguments; missing if one is missing",
        "GREATEST(3, 8, 5)",
        "8",
        1,
        True,
    ),
    _F(
        "LEAST",
        ("same", "same"),
        "same",
        "the least of the arguments; missing if one is missing",
        "LEAST(3, 8, 5)",
        "3",
        1,
        True,
    ),
    _F(
        "COALESCE",
        ("same", "same"),
        "same",
        "the first argument that is not missing",
        "COALESCE(NULL, 7)",
        "7",
        1,
        True,
    ),
    _F(
        "NULLIF",
        ("same", "same"),
        "first",
        "the first argument, missing where it equals the second",
        "NULLIF(-9, -9)",
        "",
    ),
    _F("LOWER", ("text",), "text", "in small letters", "LOWER('Elm')", "elm"),
    _F("UPPER", ("text",), "text", "in capital letters", "UPPER('Elm')", "ELM"),
    _F(
        "TRIM",
        ("text",),
        "text",
        "without blanks at both ends; also TRIM(LEADING '0' FROM x), TRAILING, BOTH",
        "TRIM(LEADING '0' FROM '0070')",
        "70",
    ),
    _F(
        "SUBSTRING",
        ("text", "integer", "integer"),
        "text",
        "from the n-th character on, so many characters; also SUBSTRING(x FROM 2 FOR 3)",
        "SUBSTRING('B3107', 2, 3)",
        "310",
        1,
    ),
    _F("LEFT", ("text", "integer"), "text", "the first n characters", "LEFT('B3107', 2)", "B3"),
    _F("RIGHT", ("text", "integer"), "text", "the last n characters", "RIGHT('B3107', 2)", "07"),
    _F(
        "POSITION",
        ("text", "text"),
        "integer",
        "where the first stands in the second, counted from 1; 0 where it does not: POSITION(a IN b)",
        "POSITION('3' IN 'B3107')",
        "2",
    ),
    _F("CHAR_LENGTH", ("text",), "integer", "the number of characters", "CHAR_LENGTH('Elm')", "3"),
    _F(
        "REPLACE",
        ("text", "text", "text"),
        "text",
        "every occurrence of the second replaced by the third",
        "REPLACE('1,5', ',', '.')",
        "1.5",
    ),
    _F(
        "LPAD",
        ("text", "integer", "text"),
        "text",
        "filled up on the left to n characters (with blanks if nothing is said); longer text is cut to n",
        "LPAD('7', 4, '0')",
        "0007",
        1,
    ),
    _F(
        "RPAD",
        ("text", "integer", "text"),
        "text",
        "filled up on the right to n characters; longer text is cut to n",
        "RPAD('7', 4, '.')",
        "7...",
        1,
    ),
    _F(
        "FOLD",
        ("text", "text"),
        "text",
        "as inputs with fold compare it: 'case', 'space', 'unicode'",
        "FOLD(' North  Vale', 'case', 'space')",
        "north vale",
        0,
        True,
    ),
    _F(
        "WHOLE_YEARS",
        ("moment", "moment"),
        "integer",
        "completed years from the first day to the second, as ages are counted; negative where it lies before",
        "WHOLE_YEARS(DATE '2000-02-29', DATE '2026-02-28')",
        "25",
    ),
    _F(
        "DAYS_BETWEEN",
        ("moment", "moment"),
        "integer",
        "days of the calendar from the first to the second",
        "DAYS_BETWEEN(DATE '2026-02-27', DATE '2026-03-01')",
        "2",
    ),
    _F(
        "EXTRACT",
        ("text", "moment"),
        "integer",
        "a part of a date or time: YEAR, QUARTER, MONTH, WEEK (ISO 8601), DAY, DAY_OF_WEEK (Monday is 1), DAY_OF_YEAR, HOUR, MINUTE, SECOND (a number with its fraction)",
        "EXTRACT(MONTH FROM DATE '2026-04-01')",
        "4",
    ),
)
_WINDOWS = (
    _F(
        "COUNT",
        ("any",),
        "integer",
        "how many rows of the frame have a value; COUNT(*) all rows, COUNT(DISTINCT x) how many different values the group has",
        "COUNT(*) OVER ()",
        "1",
        1,
        False,
        True,
    ),
    _F(
        "SUM",
        ("number",),
        "first",
        "the total over the frame; missing where no row has a value",
        "SUM(5) OVER ()",
        "5",
        0,
        False,
        True,
    ),
    _F("AVG", ("number",), "number", "the mean over the frame", "AVG(5) OVER ()", "5", 0, False, True),
    _F(
        "MEDIAN",
        ("number",),
        "number",
        "the value in the middle of the group, of two the mean",
        "MEDIAN(5) OVER ()",
        "5",
        0,
        False,
        True,
    ),
    _F(
        "PERCENTILE_CONT",
        ("number",),
        "number",
        "the value below which such a share of the group lies, from 0 to 1, between two rows in proportion; of numbers",
        "PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY 5) OVER ()",
        "5",
        0,
        False,
        True,
    ),
    _F(
        "PERCENTILE_DISC",
        ("number",),
        "first",
        "the first value of the group in the order that has such a share of it up to itself; of any type",
        "PERCENTILE_DISC(0.9) WITHIN GROUP (ORDER BY 'b') OVER ()",
        "b",
        0,
        False,
        True,
    ),
    _F(
        "VAR_POP",
        ("number",),
        "number",
        "the mean square distance from the mean of the group",
        "VAR_POP(5) OVER ()",
        "0",
        0,
        False,
        True,
    ),
    _F(
        "VAR_SAMP",
        ("number",),
        "number",
        "the same with one less than the rows as divisor; of a single row missing",
        "VAR_SAMP(5) OVER ()",
        "",
        0,
        False,
        True,
    ),
    _F(
        "STDDEV_POP",
        ("number",),
        "number",
        "the square root of VAR_POP",
        "STDDEV_POP(5) OVER ()",
        "0",
        0,
        False,
        True,
    ),
    _F(
        "STDDEV_SAMP",
        ("number",),
        "number",
        "the square root of VAR_SAMP",
        "STDDEV_SAMP(5) OVER ()",
        "",
        0,
        False,
        True,
    ),
    _F("MIN", ("any",), "first", "the least value of the frame", "MIN('b') OVER ()", "b", 0, False, True),
    _F("MAX", ("any",), "first", "the greatest value of the frame", "MAX('b') OVER ()", "b", 0, False, True),
    _F(
        "ROW_NUMBER",
        (),
        "integer",
        "1, 2, 3, ... in the order; ties as the rows stand",
        "ROW_NUMBER() OVER ()",
        "1",
        0,
        False,
        True,
    ),
    _F(
        "RANK",
        (),
        "integer",
        "the place in the order; ties have the same, and the places after them are left out",
        "RANK() OVER (ORDER BY 5)",
        "1",
        0,
        False,
        True,
    ),
    _F(
        "DENSE_RANK",
        (),
        "integer",
        "the place in the order among different values",
        "DENSE_RANK() OVER (ORDER BY 5)",
        "1",
        0,
        False,
        True,
    ),
    _F(
        "PERCENT_RANK",
        (),
        "number",
        "(RANK - 1) / (rows of the group - 1); 0 for a single row",
        "PERCENT_RANK() OVER (ORDER BY 5)",
        "0",
        0,
        False,
        True,
    ),
    _F(
        "CUME_DIST",
        (),
        "number",
        "the share of the group's rows up to this one and its ties",
        "CUME_DIST() OVER (ORDER BY 5)",
        "1",
        0,
        False,
        True,
    ),
    _F(
        "NTILE",
        ("integer",),
        "integer",
        "the number, from 1, of n parts of equal counts; the first ones have one row more where it does not divide; ties as the rows stand",
        "NTILE(4) OVER (ORDER BY 5)",
        "1",
        0,
        False,
        True,
    ),
    _F(
        "LAG",
        ("any", "integer", "same"),
        "first",
        "the value n rows before (1 if left out) in the order, else the third argument",
        "LAG(5, 1, 0) OVER (ORDER BY 5)",
        "0",
        2,
        False,
        True,
    ),
    _F(
        "LEAD",
        ("any", "integer", "same"),
        "first",
        "the value n rows after in the order, else the third argument",
        "LEAD(5, 1, 0) OVER (ORDER BY 5)",
        "0",
        2,
        False,
        True,
    ),
    _F(
        "FIRST_VALUE",
        ("any",),
        "first",
        "the value of the first row of the frame",
        "FIRST_VALUE(5) OVER (ORDER BY 5)",
        "5",
        0,
        False,
        True,
    ),
    _F(
        "LAST_VALUE",
        ("any",),
        "first",
        "the value of the last row of the frame",
        "LAST_VALUE(5) OVER (ORDER BY 5)",
        "5",
        0,
        False,
        True,
    ),
)

FUNCTIONS = {one.name: one for one in (*_ROWS, *_WINDOWS)}
#: Those that cannot do without ORDER BY, and those that a frame can be given to.
NEED_ORDER = frozenset(("RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST", "NTILE", "LAG", "LEAD"))
TAKE_FRAMES = frozenset(("COUNT", "SUM", "AVG", "MIN", "MAX", "FIRST_VALUE", "LAST_VALUE"))
#: Those that are told by WITHIN GROUP what they order.
ORDERED_SETS = frozenset(("PERCENTILE_CONT", "PERCENTILE_DISC"))
#: Those that look at whole groups, whatever their order.
SPREADS = frozenset({"VAR_POP", "VAR_SAMP", "STDDEV_POP", "STDDEV_SAMP"})
OF_GROUPS = ORDERED_SETS | SPREADS | {"MEDIAN"}
#: Those that make one value of the rows of a group: they take FILTER, and do without OVER in a summary.
AGGREGATES = OF_GROUPS | {"COUNT", "SUM", "AVG", "MIN", "MAX"}
#: How the standard's function is written that people mean by these.
MEANT = {
    "LENGTH": "CHAR_LENGTH(x)",
    "LEN": "CHAR_LENGTH(x)",
    "CHARACTER_LENGTH": "CHAR_LENGTH(x)",
    "CEIL": "CEILING(x)",
    "TRUNC": "TRUNCATE(x)",
    "POW": "POWER(x, y)",
    "LOG": "LN(x) or LOG10(x)",
    "IF": "CASE WHEN ... THEN ... ELSE ... END",
    "IIF": "CASE WHEN ... THEN ... ELSE ... END",
    "IFNULL": "COALESCE(a, b)",
    "NVL": "COALESCE(a, b)",
    "ISNULL": "x IS NULL",
    "CONCAT": "a || b",
    "SUBSTR": "SUBSTRING(x, 2, 3)",
    "YEAR": "EXTRACT(YEAR FROM x)",
    "MONTH": "EXTRACT(MONTH FROM x)",
    "STDDEV": "STDDEV_SAMP(x), or STDDEV_POP(x) where the rows are all there are",
    "STDEV": "STDDEV_SAMP(x), or STDDEV_POP(x) where the rows are all there are",
    "VARIANCE": "VAR_SAMP(x), or VAR_POP(x) where the rows are all there are",
    "VAR": "VAR_SAMP(x), or VAR_POP(x) where the rows are all there are",
    "QUANTILE": "PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY x)",
    "PERCENTILE": "PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY x)",
    "DAY": "EXTRACT(DAY FROM x)",
    "MEAN": "AVG(x) OVER (...)",
    "AVERAGE": "AVG(x) OVER (...)",
}
DATE_PARTS = ("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "DAY_OF_WEEK", "DAY_OF_YEAR")
TIME_PARTS = ("HOUR", "MINUTE", "SECOND")
