"""What to write in place of signs and functions that others have and ISO SQL's scalar expressions do not."""

from __future__ import annotations

_SIGNS = {"!=": "<>", "==": "=", "&&": "AND", "!": "NOT"}
_LENGTH = "CHAR_LENGTH(text)"
_OTHERWISE = "COALESCE(value, otherwise)"
_CASE = "CASE WHEN condition THEN value ELSE otherwise END"
_TODAY = "CURRENT_DATE"
_PLACE = "POSITION('part' IN text)"
_DIFFERENCE = "EXTRACT(DAY FROM (later - earlier) DAY)"
_IN_MONTHS = "date + INTERVAL '3' MONTH"
_FUNCTIONS = {
    "LENGTH": _LENGTH,
    "LEN": _LENGTH,
    "LEFT": "SUBSTRING(text FROM 1 FOR 3)",
    "RIGHT": "SUBSTRING(text FROM CHAR_LENGTH(text) - 2)",
    "MID": "SUBSTRING(text FROM 2 FOR 3)",
    "SUBSTR": "SUBSTRING(text FROM 2 FOR 3)",
    "IFNULL": _OTHERWISE,
    "ISNULL": f"value IS NULL, or {_OTHERWISE}",
    "NVL": _OTHERWISE,
    "CONCAT": "one || other",
    "IF": _CASE,
    "IIF": _CASE,
    "SWITCH": _CASE,
    "DECODE": _CASE,
    "UCASE": "UPPER(text)",
    "LCASE": "LOWER(text)",
    "SUBSTITUTE": "REPLACE(text, 'old', 'new')",
    "INSTR": _PLACE,
    "FIND": _PLACE,
    "SEARCH": _PLACE,
    "CHARINDEX": _PLACE,
    "LTRIM": "TRIM(LEADING FROM text)",
    "RTRIM": "TRIM(TRAILING FROM text)",
    "INT": "FLOOR(number)",
    "TRUNC": "FLOOR(number)",
    "NOW": _TODAY,
    "TODAY": _TODAY,
    "GETDATE": _TODAY,
    "YEAR": "EXTRACT(YEAR FROM date)",
    "MONTH": "EXTRACT(MONTH FROM date)",
    "DAY": "EXTRACT(DAY FROM date)",
    "TO_DATE": "CAST(text AS DATE)",
    "DATEVALUE": "CAST(text AS DATE)",
    "TO_NUMBER": "CAST(text AS DECIMAL(10, 2))",
    "VALUE": "CAST(text AS DECIMAL(10, 2))",
    "DATEDIFF": _DIFFERENCE,
    "DATE_DIFF": _DIFFERENCE,
    "DAYS": _DIFFERENCE,
    "DATEADD": _IN_MONTHS,
    "DATE_ADD": _IN_MONTHS,
    "ADD_MONTHS": _IN_MONTHS,
    "EDATE": _IN_MONTHS,
    "DATE_TRUNC": "date - (EXTRACT(DAY FROM date) - 1) * INTERVAL '1' DAY",
    "REGEXP_LIKE": "text LIKE_REGEX '[A-Z]+'",
    "REGEXP_MATCH": "text LIKE_REGEX '[A-Z]+'",
    "MAX": "GREATEST(one, other)",
    "MIN": "LEAST(one, other)",
    "POW": "POWER(number, 2)",
    "TO_CHAR": "CAST(value AS VARCHAR)",
}


def sign_instead(sign: str) -> str:
    """What to do about a sign that has no meaning, "" if that is not known."""
    if sign == ":":
        return "A name behind it is a run value, and the flow has no run value that is called so."
    return f"Write {_SIGNS[sign]} instead." if sign in _SIGNS else ""


def function_instead(name: str) -> str:
    """What to do about a function that there is not, "" if that is not known. name: in capitals."""
    return f"Write {_FUNCTIONS[name]} instead." if name in _FUNCTIONS else ""
