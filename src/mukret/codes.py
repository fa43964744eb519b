"""Every code that a user can meet, with what it means in a few words; `docs/messages.md` says what to do.

A test joins this table, the documentation and the code.
"""

from __future__ import annotations

PARENT_REJECTED = "parent-rejected"
REJECTS: dict[str, str] = {
    "not-json": "a document, or a text embedded in one, that is no JSON text",
    "no-data": "an answer in an HTTP archive that is an error, not data",
    "wrong-kind": "an object, array or other kind of value that the type can't take",
    "not-a-number": "a text that is no number",
    "not-whole": "a number with a fraction where a whole one was wanted",
    "out-of-range": "a number or an instant too large for the type",
    "too-many-digits": "more digits after the point than the type keeps",
    "not-a-boolean": "a word or number that is neither true nor false",
    "not-a-date": "a text that is no calendar date in the formats allowed",
    "not-a-time": "a text that is no time of day in the formats allowed",
    "not-a-datetime": "a text that is no local date and time, or one with an offset",
    "not-a-duration": "a text that is no duration of fixed length, or a number without a unit",
    "no-match": "a text that the pattern of capture does not match",
    "not-a-timestamp": "a text or number that is no instant in the formats allowed",
    "no-zone": "a local time without an offset, and no zone to read it in",
    "local-time-missing": "a local time that the clock jumped over",
    "local-time-twice": "a local time that occurs twice when the clock goes back",
    "unknown-word": "a word that the enum does not know",
    "several": "several nodes where one was wanted",
    "required": "nothing where a value is required",
    "division-by-zero": "an expression that divides by zero",
    "no-result": "a function that has no result for these values",
    "overflow": "an expression whose result is too large",
    "row-shape": "a row that is no object",
    "uneven": "parallel arrays of unequal length",
    "header": "rows that do not go together with their header",
    "key-missing": "a null in a field of the key",
    "where": "a condition that can't be evaluated for the row",
    PARENT_REJECTED: "a row whose parent row was rejected",
    "duplicate": "a row whose key was there before",
}
"""Codes in `rejects.jsonl`."""

RULES: dict[str, str] = {
    "yaml-syntax": "the file is not YAML",
    "yaml-trap": "YAML read something else than what was meant",
    "yaml-refused": "YAML that could do harm: tags, endless anchors",
    "unknown-key": "a key that the format does not have",
    "missing-key": "a key that must be there",
    "empty-key": "a key without a value",
    "wrong-value": "a value that the key can't take",
    "wrong-option": "an option that means nothing here",
    "not-supported": "part of the format, but not supported yet",
    "name-invalid": "a name with characters that names can't have",
    "name-twice": "a name that stands there twice",
    "name-clash": "two names that can't be told apart",
    "path-syntax": "a text that is no JSONPath",
    "no-pattern": "a regular expression that is none, or none that can be matched in linear time",
    "expression-syntax": "a text that is no SQL expression",
    "expression-type": "an expression whose types do not go together",
    "unknown-field": "a field that does not exist",
    "unknown-table": "a table that does not exist",
    "unknown-type": "a type that does not exist",
    "unknown-function": "a function that does not exist",
    "unknown-attribute": "an attribute that the enum does not have",
    "unknown-enum-value": "a comparison with a word that the enum does not have",
    "unknown-zone": "a time zone that does not exist",
    "cycle": "things that need each other",
    "example-file": "an example's file that can't be read",
    "include-file": "an included file that can't be read",
    "reference-file": "a reference file that can't be read",
}
"""Codes of problems in a rules file."""

SURPRISES: dict[str, str] = {
    "odd-value": "a value that does not look like the others of its place",
    "words-alike": "words that differ in case or in white space around them only",
    "white-space": "texts with white space around them",
    "ways-of-writing": "dates or instants written in several ways, or only some of them with an offset",
    "mixed-kinds": "values of several kinds at one path",
    "list-or-object": "a list that is sometimes an object",
    "rare-member": "a member that few of the records have",
    "missing-member": "a member that few of the records lack",
    "null-now-and-then": "a member that is null in few of the records",
    "id-repeats": "a value that comes twice where nearly all are different",
    "reference-missing": "a value that is not among the ids that the others are found in",
    "beyond-64-bits": "whole numbers that a column of integers can't hold",
    "member-twice": "a member that comes twice in one object",
    "not-followed": "nodes that were not looked into",
}
"""Codes of what a survey finds surprising."""

RUNS: dict[str, str] = {
    "rules": "the rules file has problems",
    "example-failed": "an example did not give what it says",
    "missing-extra": "an optional package that is not installed",
    "usage": "a command that makes no sense as it was typed",
    "unknown-table": "a table that does not exist",
    "not-opened": "a file that can't be opened or read",
    "empty-input": "an input file with nothing in it",
    "no-input": "no input at all",
    "not-supported": "part of the plan, but not supported yet",
    "capture-broken": "a collected folder whose record can't be read",
    "not-reached": "a service that does not answer, or not to the end",
    "redirected": "a service that sends on to another origin, or in a circle",
    "set-apart": "an answer that is no data was kept apart",
    "secret-missing": "a secret that the environment does not have",
    "worker-lost": "a process that did a share of the work was ended from outside",
    "nothing-read": "not one document could be read",
    "stopped": "the rules say that a bad value ends the run",
    "too-many-rejects": "more rejects than allowed",
    "not-empty": "a folder with files that Mukret did not write",
    "not-written": "a destination that can't be written",
    "unmatched": "a path that found nothing in all of the input",
    "no-kind": "documents of no kind that the rules know",
    "filtered-unknown": "rows that a condition left out for want of a value",
    "member-twice": "a member that comes twice in one object",
    "defect": "a mistake of the program itself",
}
"""Codes of errors and warnings of a run."""
