# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Columns → lines of CSV (RFC 4180), in one pass over the rows: null is empty, the empty text is `""`."""

from cpython.buffer cimport PyBUF_SIMPLE, PyBuffer_Release, PyObject_GetBuffer
from cpython.bytes cimport PyBytes_FromStringAndSize
from libc.stdint cimport int32_t, int64_t, uint8_t, uint32_t
from libc.stdlib cimport calloc, free, malloc, realloc

cdef extern from "writing.h" nogil:
    ctypedef int int128 "__int128"
    int WIDEST
    uint8_t *put_integer(uint8_t *to, int64_t number)
    uint8_t *put_decimal(uint8_t *to, int128 value, int scale)
    uint8_t *put_date(uint8_t *to, int64_t days)
    uint8_t *put_moment(uint8_t *to, int64_t micros, int utc)
    bint short_decimal(double value, int64_t *number, int *scale)
    uint8_t *put_text(uint8_t *to, const uint8_t *text, uint32_t length)

# What a column holds (`lines.py`).
cdef enum:
    TEXTS, WORDS, INTEGERS, DECIMALS, DATES, LOCAL_TIMES, INSTANTS, BOOLEANS, FLOATS

cdef struct Column:
    int what
    int scale
    Py_ssize_t first
    const uint8_t *valid
    const uint8_t *values
    const int32_t *ends
    const uint8_t *data
    Py_buffer views[4]
    int held


cdef class Lines:
    """Columns of one length, each given by `add`; `text` makes the lines."""

    cdef Column *columns
    cdef int count
    cdef Py_ssize_t rows

    def __cinit__(self, int count, Py_ssize_t rows):
        self.rows = rows
        self.columns = <Column *>calloc(max(1, count), sizeof(Column))
        if self.columns == NULL:
            raise MemoryError

    def add(self, int what, int scale, Py_ssize_t first, validity, values, ends, data):
        """`values`: of numbers, or of the codes of words; `ends` and `data`: of texts or words, as Arrow has them.
        `first`: the row of the buffers with which the column begins."""
        cdef Column *column = &self.columns[self.count]
        cdef const uint8_t *buffers[4]
        cdef int place
        column.what, column.scale, column.first = what, scale, first
        self.count += 1
        for place, buffer in enumerate((validity, values, ends, data)):
            buffers[place] = NULL
            if buffer is not None:
                PyObject_GetBuffer(buffer, &column.views[column.held], PyBUF_SIMPLE)
                buffers[place] = <const uint8_t *>column.views[column.held].buf
                column.held += 1
        column.valid, column.values = buffers[0], buffers[1]
        column.ends, column.data = <const int32_t *>buffers[2], buffers[3]

    def __dealloc__(self):
        cdef int number, place
        if self.columns != NULL:
            for number in range(self.count):
                for place in range(self.columns[number].held):
                    PyBuffer_Release(&self.columns[number].views[place])
            free(self.columns)

    def text(self):
        """The lines, each with its end."""
        cdef size_t room = <size_t>self.rows * 16 * self.count + 4096, used = 0, needed
        cdef uint8_t *made = <uint8_t *>malloc(room)
        cdef uint8_t *larger
        cdef uint8_t *to
        cdef Py_ssize_t row
        cdef int number
        cdef bint full = made == NULL
        with nogil:
            for row in range(self.rows):
                if full:
                    break
                for number in range(self.count):
                    needed = used + _most(&self.columns[number], row) + 2
                    if needed > room:
                        room = 2 * needed
                        larger = <uint8_t *>realloc(made, room)
                        if larger == NULL:
                            full = True
                            break
                        made = larger
                    to = _cell(&self.columns[number], row, made + used)
                    to[0] = 44 if number + 1 < self.count else 10  # a comma, or the end of the line
                    used = to + 1 - made
        try:
            if full:
                raise MemoryError
            return PyBytes_FromStringAndSize(<char *>made, used)
        finally:
            free(made)


cdef size_t _most(Column *column, Py_ssize_t row) noexcept nogil:
    """The most bytes that a cell takes."""
    cdef Py_ssize_t place = column.first + row
    if column.what == TEXTS:
        return 2 * <size_t>(column.ends[place + 1] - column.ends[place]) + 2
    if column.what == WORDS and _is_valid(column, place):
        place = (<const int32_t *>column.values)[place]
        return 2 * <size_t>(column.ends[place + 1] - column.ends[place]) + 2
    return WIDEST


cdef bint _is_valid(Column *column, Py_ssize_t place) noexcept nogil:
    return column.valid == NULL or column.valid[place >> 3] >> (place & 7) & 1


cdef uint8_t *_cell(Column *column, Py_ssize_t row, uint8_t *to) noexcept nogil:
    cdef Py_ssize_t place = column.first + row
    cdef int32_t code
    cdef int64_t number = 0
    cdef int scale = 0
    if not _is_valid(column, place):
        return to
    if column.what == TEXTS:
        return put_text(to, column.data + column.ends[place], column.ends[place + 1] - column.ends[place])
    if column.what == WORDS:
        code = (<const int32_t *>column.values)[place]
        return put_text(to, column.data + column.ends[code], column.ends[code + 1] - column.ends[code])
    if column.what == INTEGERS:
        return put_integer(to, (<const int64_t *>column.values)[place])
    if column.what == DECIMALS:
        return put_decimal(to, (<const int128 *>column.values)[place], column.scale)
    if column.what == FLOATS:
        short_decimal((<const double *>column.values)[place], &number, &scale)
        return put_decimal(to, number, scale)
    if column.what == DATES:
        return put_date(to, (<const int32_t *>column.values)[place])
    if column.what == BOOLEANS:
        if column.values[place >> 3] >> (place & 7) & 1:
            to[0], to[1], to[2], to[3] = 116, 114, 117, 101  # true
            return to + 4
        to[0], to[1], to[2], to[3], to[4] = 102, 97, 108, 115, 101  # false
        return to + 5
    return put_moment(to, (<const int64_t *>column.values)[place], column.what == INSTANTS)


def are_short(Py_ssize_t first, Py_ssize_t count, validity, values):
    """Whether all doubles of a column have a shortest decimal that is written at once."""
    cdef Lines lines = Lines(1, count)
    cdef Py_ssize_t row
    cdef int64_t number
    cdef int scale
    cdef bint short = True
    lines.add(FLOATS, 0, first, validity, values, None, None)
    cdef Column *column = lines.columns
    with nogil:
        for row in range(first, first + count):
            if _is_valid(column, row) and not short_decimal((<const double *>column.values)[row], &number, &scale):
                short = False
                break
    return short
