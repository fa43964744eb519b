# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Cells → the buffers of Arrow arrays, straight from the bytes.

Each kernel reads what surely means one thing. Null and missing cells give null; what else it does not take, it refuses:
the rows of those are given back, for the type itself to read.
"""

import os

from cpython.buffer cimport PyBUF_SIMPLE, PyBuffer_Release, PyObject_GetBuffer
from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize, PyBytes_GET_SIZE
from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t, uint64_t
from libc.stdlib cimport calloc, free, malloc, realloc
from libc.string cimport memcmp, memcpy, memset

cdef extern from "reading.h" nogil:
    uint32_t unescaped(const uint8_t *start, uint32_t length, uint8_t *to)
    uint64_t hash_seed
    uint64_t name_hash(const uint8_t *name, uint32_t length)

cdef extern from "values.h" nogil:
    ctypedef struct Marks:
        uint8_t point
        uint8_t grouping
        int percent
    ctypedef int int128 "__int128"
    int REFUSED_HERE, LOCAL_TIME, OFFSET_TIME
    int read_integer(const uint8_t *at, uint32_t length, const Marks *marks, int64_t *value)
    int read_decimal(const uint8_t *at, uint32_t length, const Marks *marks, int scale, int precision, int128 *value)
    int read_float(const uint8_t *at, uint32_t length, const Marks *marks, double *value)
    int read_date(const uint8_t *at, uint32_t length, int64_t *days)
    int read_moment(const uint8_t *at, uint32_t length, int64_t *micros, int *form)

hash_seed = int.from_bytes(os.urandom(8), "little")

# The kinds of what stands in a cell (`kinds.py`).
cdef enum:
    MISSING, NULL_, FALSE, TRUE, INTEGER, NUMBER, TEXT, ESCAPED, ARRAY, OBJECT
    KINDS

# What a kernel makes of a cell.
cdef enum:
    VALUE, EMPTY, REFUSED, NO_MEMORY

# What a column of numbers is made of.
cdef enum:
    AS_INTEGER, AS_DECIMAL, AS_FLOAT, AS_DATE, AS_MOMENT

cdef Marks JSON_MARKS
JSON_MARKS.point, JSON_MARKS.grouping, JSON_MARKS.percent = 46, 0, 0


# How texts and numbers of a column are read.
cdef struct Wanted:
    int what
    Marks marks
    int scale
    int precision
    bint iso  # moments in ISO 8601
    int64_t factor  # epochs: so many microseconds; 0: none; -1: nanoseconds
    int64_t first  # the least and greatest that there may be
    int64_t last
    const uint8_t *blanks  # texts that mean null, each behind its length in a byte
    uint32_t blanks_size


cdef class Cells:
    """A column of a scan. `kinds`, `starts` and `lengths` are buffers, of 8, 32 and 32 bits a row."""

    cdef readonly bytes buffer
    cdef Py_buffer views[3]
    cdef int view_count
    cdef const uint8_t *text_bytes
    cdef const uint8_t *kinds
    cdef const uint32_t *starts
    cdef const uint32_t *lengths
    cdef readonly uint32_t count

    def __cinit__(self, bytes buffer, kinds, starts, lengths, uint32_t count):
        self.buffer = buffer
        self.count = count
        self.text_bytes = <const uint8_t *>PyBytes_AS_STRING(buffer)
        for array, width in ((kinds, 1), (starts, 4), (lengths, 4)):
            PyObject_GetBuffer(array, &self.views[self.view_count], PyBUF_SIMPLE)
            self.view_count += 1
            if self.views[self.view_count - 1].len < width * <Py_ssize_t>count:
                raise IndexError(count)
        self.kinds = <const uint8_t *>self.views[0].buf
        self.starts = <const uint32_t *>self.views[1].buf
        self.lengths = <const uint32_t *>self.views[2].buf

    def __dealloc__(self):
        cdef int number
        for number in range(self.view_count):
            PyBuffer_Release(&self.views[number])

    def kinds_seen(self):
        """The numbers of the kinds that there are."""
        cdef uint32_t counts[KINDS]
        cdef uint32_t row
        memset(counts, 0, sizeof(counts))
        with nogil:
            for row in range(self.count):
                counts[self.kinds[row]] += 1
        return {kind for kind in range(KINDS) if counts[kind]}

    def raw(self, uint32_t row):
        """The JSON text of a value; empty where there is none."""
        if row >= self.count:
            raise IndexError(row)
        if self.kinds[row] == MISSING:
            return b""
        start, length = self.starts[row], self.lengths[row]
        if self.kinds[row] == TEXT or self.kinds[row] == ESCAPED:
            start, length = start - 1, length + 2
        return self.buffer[start : start + length]

    def text(self, uint32_t row):
        """The characters of a text, without quotes and escapes, in UTF-8."""
        if row >= self.count or not (self.kinds[row] == TEXT or self.kinds[row] == ESCAPED):
            raise IndexError(row)
        cdef bytes made = _bytes(self.lengths[row])
        cdef uint32_t length = unescaped(
            self.text_bytes + self.starts[row], self.lengths[row], <uint8_t *>PyBytes_AS_STRING(made)
        )
        return made[:length]

    def places_of_texts(self):
        """The rows that have texts, each with the offsets where these begin and end, quotes included."""
        cdef uint32_t row
        return [
            (row, self.starts[row] - 1, self.starts[row] + self.lengths[row] + 1)
            for row in range(self.count)
            if self.kinds[row] == TEXT or self.kinds[row] == ESCAPED
        ]

    def rows_without(self, kind):
        """The rows that are of another kind than this."""
        cdef uint8_t wanted = kind
        cdef uint32_t row
        return [row for row in range(self.count) if self.kinds[row] != wanted]

    def or_else(self, Cells other):
        """These cells, and where one has no value, that of another column."""
        kinds, starts, lengths = _bytes(self.count), _bytes(4 * self.count), _bytes(4 * self.count)
        cdef uint8_t *to_kinds = <uint8_t *>PyBytes_AS_STRING(kinds)
        cdef uint32_t *to_starts = <uint32_t *>PyBytes_AS_STRING(starts)
        cdef uint32_t *to_lengths = <uint32_t *>PyBytes_AS_STRING(lengths)
        cdef uint32_t row
        cdef Cells chosen
        if other.count != self.count or other.buffer is not self.buffer:
            raise ValueError("columns of different rows")
        with nogil:
            for row in range(self.count):
                if self.kinds[row] <= NULL_ and other.kinds[row] > NULL_:
                    to_kinds[row], to_starts[row], to_lengths[row] = other.kinds[row], other.starts[row], other.lengths[row]
                else:
                    to_kinds[row], to_starts[row], to_lengths[row] = self.kinds[row], self.starts[row], self.lengths[row]
        return Cells(self.buffer, kinds, starts, lengths, self.count)

    def chosen(self, owners, uint32_t count, bint last):
        """For each of so many rows the first (or last) of these cells that has a value, and the rows that have several.
        `owners`: for each cell the number of its row, 32 bits each, ascending."""
        kinds, starts, lengths = _bytes(count), _bytes(4 * <Py_ssize_t>count), _bytes(4 * <Py_ssize_t>count)
        cdef uint8_t *to_kinds = <uint8_t *>PyBytes_AS_STRING(kinds)
        cdef uint32_t *to_starts = <uint32_t *>PyBytes_AS_STRING(starts)
        cdef uint32_t *to_lengths = <uint32_t *>PyBytes_AS_STRING(lengths)
        cdef Py_buffer view
        cdef const uint32_t *owner
        cdef uint32_t place, row
        cdef bint outside = False, full = False
        cdef Refusals several = Refusals()
        PyObject_GetBuffer(owners, &view, PyBUF_SIMPLE)
        try:
            if view.len < 4 * <Py_ssize_t>self.count:
                raise IndexError(self.count)
            owner = <const uint32_t *>view.buf
            with nogil:
                for place in range(self.count):
                    row = owner[place]
                    if row >= count:
                        outside = True
                        break
                    if self.kinds[place] <= NULL_:
                        continue
                    if to_kinds[row]:
                        if not several.add(row):
                            full = True
                            break
                        if not last:
                            continue
                    to_kinds[row], to_starts[row], to_lengths[row] = self.kinds[place], self.starts[place], self.lengths[place]
        finally:
            PyBuffer_Release(&view)
        if outside:
            raise IndexError(row)
        if full:
            raise MemoryError
        return Cells(self.buffer, kinds, starts, lengths, count), several.listed()

    # ---- kernels

    def texts(self):
        """Offsets, bytes, validity and refused rows of strings: texts, numbers by their digits, true and false."""
        cdef bytes validity = _bytes((self.count + 7) // 8)
        cdef bytes offsets = _bytes(4 * (<Py_ssize_t>self.count + 1))
        cdef uint8_t *valid = <uint8_t *>PyBytes_AS_STRING(validity)
        cdef int32_t *ends = <int32_t *>PyBytes_AS_STRING(offsets)
        cdef uint64_t size = 0
        cdef uint32_t row, nulls = 0
        cdef uint8_t *data
        cdef uint8_t *at
        cdef uint8_t kind
        cdef Refusals refused = Refusals()
        cdef bint full = False
        with nogil:
            for row in range(self.count):
                kind = self.kinds[row]
                if kind == TRUE or kind == FALSE or INTEGER <= kind <= ESCAPED:
                    size += self.lengths[row]
        if size > 0x7FFFFFFF:
            raise OverflowError("2 GB of text in one column")
        cdef bytes made = _bytes(size)
        data = at = <uint8_t *>PyBytes_AS_STRING(made)
        with nogil:
            ends[0] = 0
            for row in range(self.count):
                kind = self.kinds[row]
                if kind == ESCAPED:
                    at += unescaped(self.text_bytes + self.starts[row], self.lengths[row], at)
                elif kind == TRUE or kind == FALSE or INTEGER <= kind <= TEXT:
                    memcpy(at, self.text_bytes + self.starts[row], self.lengths[row])
                    at += self.lengths[row]
                else:
                    nulls += 1
                    if kind > NULL_ and not refused.add(row):
                        full = True
                        break
                    ends[row + 1] = <int32_t>(at - data)
                    continue
                valid[row >> 3] |= 1 << (row & 7)
                ends[row + 1] = <int32_t>(at - data)
        if full:
            raise MemoryError
        return offsets, made, validity, nulls, refused.listed()

    def integers(self, marks, blanks):
        """Values (64 bits), validity and refused rows. `marks`: see `_marks`; `blanks`: texts that mean null."""
        cdef Wanted wanted
        _wanted(&wanted, AS_INTEGER, marks, blanks)
        return self.numbers(&wanted, 8)

    def decimals(self, marks, blanks, int precision, int scale):
        """The same of numbers with a scale, of 128 bits."""
        cdef Wanted wanted
        _wanted(&wanted, AS_DECIMAL, marks, blanks)
        wanted.precision, wanted.scale = precision, scale
        return self.numbers(&wanted, 16)

    def floats(self, marks, blanks):
        """The same of doubles."""
        cdef Wanted wanted
        _wanted(&wanted, AS_FLOAT, marks, blanks)
        return self.numbers(&wanted, 8)

    def dates(self, blanks):
        """The same of dates, in days since 1970 of 32 bits."""
        cdef Wanted wanted
        _wanted(&wanted, AS_DATE, None, blanks)
        return self.numbers(&wanted, 4)

    def moments(self, blanks, bint iso, int64_t factor, int64_t first, int64_t last):
        """The same of microseconds since 1970 between `first` and `last`, of ISO 8601 texts if `iso`, and of epochs of
        `factor` microseconds (0: there are none; -1: nanoseconds). The last value given has a byte for each row: 1 where
        the text told no offset."""
        cdef Wanted wanted
        _wanted(&wanted, AS_MOMENT, None, blanks)
        wanted.iso, wanted.factor, wanted.first, wanted.last = iso, factor, first, last
        return self.numbers(&wanted, 8)

    cdef tuple numbers(self, Wanted *wanted, int width):
        cdef bytes validity = _bytes((self.count + 7) // 8)
        cdef bytes values = _bytes(width * <Py_ssize_t>self.count)
        cdef bytes local = _bytes(self.count if wanted.what == AS_MOMENT else 0)
        cdef uint8_t *valid = <uint8_t *>PyBytes_AS_STRING(validity)
        cdef uint8_t *to = <uint8_t *>PyBytes_AS_STRING(values)
        cdef uint8_t *is_local = <uint8_t *>PyBytes_AS_STRING(local)
        cdef uint32_t row, nulls = 0, locals = 0
        cdef int outcome
        cdef uint8_t kind
        cdef bint told = False
        cdef Refusals refused = Refusals()
        cdef bint full = False
        with nogil:
            for row in range(self.count):
                kind = self.kinds[row]
                told = False
                if INTEGER <= kind <= TEXT:
                    outcome = _number(
                        wanted, kind, self.text_bytes + self.starts[row], self.lengths[row], to + <size_t>width * row, &told
                    )
                else:
                    outcome = EMPTY if kind <= NULL_ else REFUSED
                if outcome == VALUE:
                    valid[row >> 3] |= 1 << (row & 7)
                    if told:
                        is_local[row] = 1
                        locals += 1
                else:
                    nulls += 1
                    if outcome == REFUSED and not refused.add(row):
                        full = True
                        break
        if full:
            raise MemoryError
        return values, validity, nulls, refused.listed(), local if locals else None

    def different(self, uint32_t most):
        """For each row the number of its value among the different ones (32 bits), and a row for each of these; None
        if there are more than `most`."""
        cdef bytes codes = _bytes(4 * <Py_ssize_t>self.count)
        cdef int32_t *to = <int32_t *>PyBytes_AS_STRING(codes)
        cdef uint32_t room = 64
        cdef uint32_t row, place, count = 0, first
        cdef int32_t nothing[2]  # the numbers of cells that are missing, and null
        cdef uint64_t hashed
        cdef uint32_t *firsts
        cdef int32_t *table
        cdef uint64_t *hashes
        cdef bint too_many = False
        nothing[0] = nothing[1] = -1
        while room < 2 * most:
            room *= 2
        firsts = <uint32_t *>malloc((most + 1) * sizeof(uint32_t))
        hashes = <uint64_t *>malloc((most + 1) * sizeof(uint64_t))
        table = <int32_t *>malloc(room * sizeof(int32_t))
        try:
            if firsts == NULL or table == NULL or hashes == NULL:
                raise MemoryError
            with nogil:
                memset(table, 0xFF, room * sizeof(int32_t))
                for row in range(self.count):
                    if self.kinds[row] <= NULL_:
                        if nothing[self.kinds[row]] < 0:
                            if count == most:
                                too_many = True
                                break
                            nothing[self.kinds[row]] = count
                            firsts[count] = row
                            count += 1
                        to[row] = nothing[self.kinds[row]]
                        continue
                    hashed = name_hash(self.text_bytes + self.starts[row], self.lengths[row]) + self.kinds[row]
                    place = <uint32_t>(hashed ^ hashed >> 32) & (room - 1)
                    while table[place] >= 0:
                        first = firsts[table[place]]
                        if (
                            hashes[table[place]] == hashed
                            and self.kinds[first] == self.kinds[row]
                            and self.lengths[first] == self.lengths[row]
                            and memcmp(self.text_bytes + self.starts[first], self.text_bytes + self.starts[row], self.lengths[row]) == 0
                        ):
                            break
                        place = (place + 1) & (room - 1)
                    if table[place] < 0:
                        if count == most:
                            too_many = True
                            break
                        table[place] = count
                        firsts[count], hashes[count] = row, hashed
                        count += 1
                    to[row] = table[place]
            if too_many:
                return None
            return codes, [firsts[place] for place in range(count)]
        finally:
            free(firsts)
            free(hashes)
            free(table)


cdef bytes _bytes(Py_ssize_t size):
    """Bytes of zeros that nobody else has, to be filled."""
    cdef bytes made = PyBytes_FromStringAndSize(NULL, size)
    memset(PyBytes_AS_STRING(made), 0, size)
    return made


cdef int _wanted(Wanted *wanted, int what, marks, bytes blanks) except -1:
    """`marks`: the point, the mark of groups (empty: none), and whether numbers are hundredths; None: those of JSON.
    `blanks`: each text behind its length in a byte; the caller keeps it."""
    memset(wanted, 0, sizeof(Wanted))
    wanted.what = what
    wanted.marks = JSON_MARKS
    if marks is not None:
        point, grouping, percent = marks
        wanted.marks.point = ord(point)
        wanted.marks.grouping = ord(grouping) if grouping else 0
        wanted.marks.percent = percent
    wanted.blanks = <const uint8_t *>PyBytes_AS_STRING(blanks)
    wanted.blanks_size = PyBytes_GET_SIZE(blanks)
    return 0


cdef bint _is_blank(Wanted *wanted, const uint8_t *text, uint32_t length) noexcept nogil:
    cdef uint32_t place = 0
    while place < wanted.blanks_size:
        if wanted.blanks[place] == length and memcmp(wanted.blanks + place + 1, text, length) == 0:
            return True
        place += 1 + wanted.blanks[place]
    return False


cdef int _number(
    Wanted *wanted, uint8_t kind, const uint8_t *text, uint32_t length, uint8_t *to, bint *local
) noexcept nogil:
    """What is made of a text or a number; it is put at `to`."""
    cdef int64_t whole = 0
    cdef int form = 0
    cdef double number = 0
    cdef int128 large
    cdef Marks marks = wanted.marks
    if wanted.blanks_size and _is_blank(wanted, text, length):
        return EMPTY
    if kind != TEXT:
        marks = JSON_MARKS
        marks.percent = wanted.marks.percent
    if wanted.what == AS_INTEGER:
        if marks.percent or read_integer(text, length, &marks, &whole):
            return REFUSED
        memcpy(to, &whole, 8)
    elif wanted.what == AS_DECIMAL:
        if read_decimal(text, length, &marks, wanted.scale, wanted.precision, &large):
            return REFUSED
        memcpy(to, &large, 16)
    elif wanted.what == AS_FLOAT:
        if read_float(text, length, &marks, &number):
            return REFUSED
        memcpy(to, &number, 8)
    elif wanted.what == AS_DATE:
        if kind != TEXT or read_date(text, length, &whole):
            return REFUSED
        (<int32_t *>to)[0] = <int32_t>whole
    else:
        return _moment(wanted, kind, text, length, to, local)
    return VALUE


cdef int _moment(
    Wanted *wanted, uint8_t kind, const uint8_t *text, uint32_t length, uint8_t *to, bint *local
) noexcept nogil:
    cdef int64_t micros = 0
    cdef int form = 0
    if kind == TEXT and wanted.iso and read_moment(text, length, &micros, &form) != REFUSED_HERE:
        local[0] = form == LOCAL_TIME
    elif wanted.factor and read_integer(text, length, &JSON_MARKS, &micros) != REFUSED_HERE:
        if wanted.factor < 0:
            if micros % 1000:
                return REFUSED
            micros = micros // 1000
        elif micros > wanted.last // wanted.factor or micros < -(-wanted.first // wanted.factor):
            return REFUSED
        else:
            micros = micros * wanted.factor
    else:
        return REFUSED
    if micros < wanted.first or micros > wanted.last:
        return REFUSED
    memcpy(to, &micros, 8)
    return VALUE


cdef class Refusals:
    """The numbers of rows, as many as it takes."""

    cdef uint32_t *rows
    cdef uint32_t count
    cdef uint32_t room

    cdef bint add(self, uint32_t row) noexcept nogil:
        cdef uint32_t *larger
        if self.count == self.room:
            self.room = self.room * 2 if self.room else 64
            larger = <uint32_t *>realloc(self.rows, self.room * sizeof(uint32_t))
            if larger == NULL:
                return False
            self.rows = larger
        self.rows[self.count] = row
        self.count += 1
        return True

    cdef list listed(self):
        cdef uint32_t place
        return [self.rows[place] for place in range(self.count)]

    def __dealloc__(self):
        free(self.rows)
