"""Every code that a user can meet, and what each means in a few words; `docs/messages.md` says
what to do.

A test joins the tables, the documentation and the code.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum


class Code(StrEnum):
    """A code, as it stands in messages, rejects and records; for who prints one it is that text."""

    __repr__ = str.__repr__

    NOT_JSON = "not-json"
    TOO_LONG = "too-long"
    NO_DATA = "no-data"
    DOCUMENT_SHAPE = "document-shape"
    NOTHING_READ = "nothing-read"
    OTHER_KIND = "other-kind"
    WRONG_KIND = "wrong-kind"
    NOT_A_NUMBER = "not-a-number"
    NOT_WHOLE = "not-whole"
    OUT_OF_RANGE = "out-of-range"
    TOO_MANY_DIGITS = "too-many-digits"
    NOT_A_BOOLEAN = "not-a-boolean"
    NOT_A_DATE = "not-a-date"
    NOT_A_TIME = "not-a-time"
    NOT_A_DATETIME = "not-a-datetime"
    NOT_A_DURATION = "not-a-duration"
    NO_MATCH = "no-match"
    NOT_A_TIMESTAMP = "not-a-timestamp"
    NO_ZONE = "no-zone"
    LOCAL_TIME_MISSING = "local-time-missing"
    LOCAL_TIME_TWICE = "local-time-twice"
    UNKNOWN_WORD = "unknown-word"
    SEVERAL = "several"
    REQUIRED = "required"
    DIVISION_BY_ZERO = "division-by-zero"
    NO_RESULT = "no-result"
    OVERFLOW = "overflow"
    ROW_SHAPE = "row-shape"
    UNEVEN = "uneven"
    HEADER = "header"
    KEY_MISSING = "key-missing"
    WHERE = "where"
    PARENT_REJECTED = "parent-rejected"
    DUPLICATE = "duplicate"
    YAML_SYNTAX = "yaml-syntax"
    YAML_TRAP = "yaml-trap"
    YAML_REFUSED = "yaml-refused"
    UNKNOWN_KEY = "unknown-key"
    MISSING_KEY = "missing-key"
    EMPTY_KEY = "empty-key"
    WRONG_VALUE = "wrong-value"
    WRONG_OPTION = "wrong-option"
    NOT_SUPPORTED = "not-supported"
    NAME_INVALID = "name-invalid"
    NAME_TWICE = "name-twice"
    NAME_CLASH = "name-clash"
    PATH_SYNTAX = "path-syntax"
    NO_PATTERN = "no-pattern"
    EXPRESSION_SYNTAX = "expression-syntax"
    EXPRESSION_TYPE = "expression-type"
    UNKNOWN_VARIABLE = "unknown-variable"
    UNKNOWN_FIELD = "unknown-field"
    UNKNOWN_TABLE = "unknown-table"
    UNKNOWN_TYPE = "unknown-type"
    UNKNOWN_FUNCTION = "unknown-function"
    UNKNOWN_ATTRIBUTE = "unknown-attribute"
    UNKNOWN_ENUM_VALUE = "unknown-enum-value"
    UNKNOWN_ZONE = "unknown-zone"
    CYCLE = "cycle"
    EXAMPLE_FILE = "example-file"
    INCLUDE_FILE = "include-file"
    REFERENCE_FILE = "reference-file"
    ODD_VALUE = "odd-value"
    WORDS_ALIKE = "words-alike"
    WHITE_SPACE = "white-space"
    WAYS_OF_WRITING = "ways-of-writing"
    MIXED_KINDS = "mixed-kinds"
    LIST_OR_OBJECT = "list-or-object"
    RARE_MEMBER = "rare-member"
    MISSING_MEMBER = "missing-member"
    NULL_NOW_AND_THEN = "null-now-and-then"
    ID_REPEATS = "id-repeats"
    REFERENCE_MISSING = "reference-missing"
    BEYOND_64_BITS = "beyond-64-bits"
    MEMBER_TWICE = "member-twice"
    NOT_FOLLOWED = "not-followed"
    RULES = "rules"
    EXAMPLE_FAILED = "example-failed"
    MISSING_EXTRA = "missing-extra"
    USAGE = "usage"
    NOT_OPENED = "not-opened"
    EMPTY_INPUT = "empty-input"
    NO_INPUT = "no-input"
    CAPTURE_BROKEN = "capture-broken"
    NOT_REACHED = "not-reached"
    OVER_BOUNDS = "over-bounds"
    IN_USE = "in-use"
    OTHER_TABLE = "other-table"
    NOT_GIVEN = "not-given"
    SPARK = "spark"
    OTHER_PARTS = "other-parts"
    NO_KEY = "no-key"
    KEY_THERE = "key-there"
    SIGN_IN = "sign-in"
    ASKED_TO_WAIT = "asked-to-wait"
    PAGE_REPEATED = "page-repeated"
    PAGE_SAME = "page-same"
    PAGE_LIMIT = "page-limit"
    CURSOR_KIND = "cursor-kind"
    CURSOR_MISSING = "cursor-missing"
    NO_LIST = "no-list"
    ELSEWHERE = "elsewhere"
    NOT_AN_ADDRESS = "not-an-address"
    RECORDS_SHORT = "records-short"
    NOT_ASKED = "not-asked"
    PORT_TAKEN = "port-taken"
    REDIRECTED = "redirected"
    SET_APART = "set-apart"
    SECRET_MISSING = "secret-missing"
    STOPPED = "stopped"
    TOO_MANY_REJECTS = "too-many-rejects"
    NOT_EMPTY = "not-empty"
    NO_DOCUMENT = "no-document"
    NOT_HELD = "not-held"
    NOT_WRITTEN = "not-written"
    LIST_OR_RECORD = "list-or-record"
    UNMATCHED = "unmatched"
    NOT_INHERITED = "not-inherited"
    NOT_JOINED = "not-joined"
    NO_KIND = "no-kind"
    FILTERED_UNKNOWN = "filtered-unknown"
    DEFECT = "defect"


# Codes in `rejects.jsonl`.
REJECTS: Mapping[Code, str] = {
    Code.NOT_JSON: "a document, or a text embedded in one, that is no JSON text",
    Code.TOO_LONG: "a line of a size that can't be decoded as a whole",
    Code.NO_DATA: "an answer in an HTTP archive that is an error, not data",
    Code.DOCUMENT_SHAPE: "a document without something that every document of the feed must have",
    Code.NOTHING_READ: "a document in which no rule reads anything",
    Code.OTHER_KIND: "a value of another kind than a path goes through",
    Code.WRONG_KIND: "an object, array or other kind of value that the type can't take",
    Code.NOT_A_NUMBER: "a text that is no number",
    Code.NOT_WHOLE: "a number with a fraction where a whole one was wanted",
    Code.OUT_OF_RANGE: "a number or an instant too large for the type",
    Code.TOO_MANY_DIGITS: "more digits after the point than the type keeps",
    Code.NOT_A_BOOLEAN: "a word or number that is neither true nor false",
    Code.NOT_A_DATE: "a text that is no calendar date in the formats allowed",
    Code.NOT_A_TIME: "a text that is no time of day in the formats allowed",
    Code.NOT_A_DATETIME: "a text that is no local date and time, or one with an offset",
    Code.NOT_A_DURATION: "a text that is no duration of fixed length, or a number without a unit",
    Code.NO_MATCH: "a text that the pattern of capture does not match",
    Code.NOT_A_TIMESTAMP: "a text or number that is no instant in the formats allowed",
    Code.NO_ZONE: "a local time without an offset, and no zone to read it in",
    Code.LOCAL_TIME_MISSING: "a local time that the clock jumped over",
    Code.LOCAL_TIME_TWICE: "a local time that occurs twice when the clock goes back",
    Code.UNKNOWN_WORD: "a word that the enum does not know",
    Code.SEVERAL: "several nodes where one was wanted",
    Code.REQUIRED: "nothing where a value is required",
    Code.DIVISION_BY_ZERO: "an expression that divides by zero",
    Code.NO_RESULT: "a function that has no result for these values",
    Code.OVERFLOW: "an expression whose result is too large",
    Code.ROW_SHAPE: "a row that is no object, or what stands in the place of rows",
    Code.UNEVEN: "parallel arrays of unequal length",
    Code.HEADER: "rows that do not go together with their header",
    Code.KEY_MISSING: "a null in a field of the key",
    Code.WHERE: "a condition that can't be evaluated for the row",
    Code.PARENT_REJECTED: "a row whose parent row was rejected",
    Code.DUPLICATE: "a row whose key was there before",
}

# Codes of problems in a rules file.
RULES: Mapping[Code, str] = {
    Code.YAML_SYNTAX: "the file is not YAML",
    Code.YAML_TRAP: "YAML read something else than what was meant",
    Code.YAML_REFUSED: "YAML that could do harm: tags, endless anchors",
    Code.UNKNOWN_KEY: "a key that the format does not have",
    Code.MISSING_KEY: "a key that must be there",
    Code.EMPTY_KEY: "a key without a value",
    Code.WRONG_VALUE: "a value that the key can't take",
    Code.WRONG_OPTION: "an option that means nothing here",
    Code.NOT_SUPPORTED: "part of the format, but not supported yet",
    Code.NAME_INVALID: "a name with characters that names can't have",
    Code.NAME_TWICE: "a name that stands there twice",
    Code.NAME_CLASH: "two names that can't be told apart",
    Code.PATH_SYNTAX: "a text that is no JSONPath",
    Code.NO_PATTERN: (
        "a regular expression that is none, or none that can be matched in linear time"
    ),
    Code.EXPRESSION_SYNTAX: "a text that is no SQL expression",
    Code.EXPRESSION_TYPE: "an expression whose types do not go together",
    Code.UNKNOWN_VARIABLE: "a variable of a calls file that nothing gives a value",
    Code.UNKNOWN_FIELD: "a field that does not exist",
    Code.UNKNOWN_TABLE: "a table that does not exist",
    Code.UNKNOWN_TYPE: "a type that does not exist",
    Code.UNKNOWN_FUNCTION: "a function that does not exist",
    Code.UNKNOWN_ATTRIBUTE: "an attribute that the enum does not have",
    Code.UNKNOWN_ENUM_VALUE: "a comparison with a word that the enum does not have",
    Code.UNKNOWN_ZONE: "a time zone that does not exist",
    Code.CYCLE: "things that need each other",
    Code.EXAMPLE_FILE: "an example's file that can't be read",
    Code.INCLUDE_FILE: "an included file that can't be read",
    Code.REFERENCE_FILE: "a reference file that can't be read",
}

# Codes of what a survey finds surprising.
SURPRISES: Mapping[Code, str] = {
    Code.ODD_VALUE: "a value that does not look like the others of its place",
    Code.WORDS_ALIKE: "words that differ in case or in white space around them only",
    Code.WHITE_SPACE: "texts with white space around them",
    Code.WAYS_OF_WRITING: (
        "dates or instants written in several ways, or only some of them with an offset"
    ),
    Code.MIXED_KINDS: "values of several kinds at one path",
    Code.LIST_OR_OBJECT: "a list that is sometimes an object",
    Code.RARE_MEMBER: "a member that few of the records have",
    Code.MISSING_MEMBER: "a member that few of the records lack",
    Code.NULL_NOW_AND_THEN: "a member that is null in few of the records",
    Code.ID_REPEATS: "a value that comes twice where nearly all are different",
    Code.REFERENCE_MISSING: "a value that is not among the ids that the others are found in",
    Code.BEYOND_64_BITS: "whole numbers that a column of integers can't hold",
    Code.MEMBER_TWICE: "a member that comes twice in one object",
    Code.NOT_FOLLOWED: "nodes that were not looked into",
}

# Codes of errors and warnings of a run.
RUNS: Mapping[Code, str] = {
    Code.RULES: "the rules file has problems",
    Code.EXAMPLE_FAILED: "an example did not give what it says",
    Code.MISSING_EXTRA: "an optional package that is not installed",
    Code.USAGE: "a command that makes no sense as it was typed",
    Code.UNKNOWN_TABLE: "a table that does not exist",
    Code.NOT_OPENED: "a file that can't be opened or read",
    Code.EMPTY_INPUT: "an input file with nothing in it",
    Code.NO_INPUT: "no input at all",
    Code.NOT_SUPPORTED: "part of the plan, but not supported yet",
    Code.CAPTURE_BROKEN: "a collected folder whose record can't be read",
    Code.NOT_REACHED: "a service that does not answer, or not to the end",
    Code.OVER_BOUNDS: "an answer that is larger, or takes longer, than it may",
    Code.IN_USE: "a folder or database into which another program writes",
    Code.OTHER_TABLE: "a table in a database whose columns are not those of the rules",
    Code.NOT_GIVEN: "a wanted row that no rules were found for",
    Code.SPARK: "Apache Spark did not start, or gave up",
    Code.OTHER_PARTS: "parts that are not all those of one extraction",
    Code.NO_KEY: "a table whose rows have no key by which they could be replaced",
    Code.KEY_THERE: "a row whose key is in the table already",
    Code.SIGN_IN: "a sign-in that the service refused, or whose answer lacks what is kept of it",
    Code.ASKED_TO_WAIT: "a service that wants a longer pause than is waited for",
    Code.PAGE_REPEATED: "a page that names one that was there before as the next",
    Code.PAGE_SAME: "two pages of a list with the same records",
    Code.PAGE_LIMIT: "a list with more pages than it may have",
    Code.CURSOR_KIND: "something that is no cursor in its place",
    Code.CURSOR_MISSING: "a list that goes on, and has no cursor",
    Code.NO_LIST: "a page whose records can't be told",
    Code.ELSEWHERE: "an address at another origin",
    Code.NOT_AN_ADDRESS: "something that is no address in its place",
    Code.RECORDS_SHORT: "fewer records than the service said that there are",
    Code.NOT_ASKED: "records that lead to no request",
    Code.PORT_TAKEN: "a port on which another program listens",
    Code.REDIRECTED: "a service that sends on to another origin, or in a circle",
    Code.SET_APART: "an answer that is no data was kept apart",
    Code.SECRET_MISSING: "a secret that the environment does not have",
    Code.NOTHING_READ: "not one document could be read",
    Code.STOPPED: "the rules say that a bad value ends the run",
    Code.TOO_MANY_REJECTS: "more rejects than allowed",
    Code.NOT_EMPTY: "a folder with files that Mukret did not write",
    Code.NO_DOCUMENT: "something that a program gave as a response and that is no JSON",
    Code.NOT_HELD: "something that the format or database can't hold",
    Code.NOT_WRITTEN: "a destination that can't be written",
    Code.LIST_OR_RECORD: "rules for one record that met a list of records, or the other way round",
    Code.UNMATCHED: "a path that found nothing in all of the input",
    Code.NOT_INHERITED: "a field of the response that no table inherits",
    Code.NOT_JOINED: "a table within another whose rows can't be led back to its rows",
    Code.NO_KIND: "documents of no kind that the rules know",
    Code.FILTERED_UNKNOWN: "rows that a condition left out for want of a value",
    Code.MEMBER_TWICE: "a member that comes twice in one object",
    Code.DEFECT: "a mistake of the program itself",
}
