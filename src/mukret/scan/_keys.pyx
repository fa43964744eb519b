# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Keys of rows as hashes of 128 bits, and the set of those that were seen: 20 to 30 bytes for each."""

import os

from cpython.buffer cimport PyBUF_SIMPLE, PyBuffer_Release, PyObject_GetBuffer
from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_FromStringAndSize, PyBytes_GET_SIZE
from libc.stdint cimport int32_t, uint8_t, uint32_t, uint64_t
from libc.string cimport memcpy

cdef extern from "reading.h" nogil:
    void mix(uint64_t *first, uint64_t *second, uint64_t piece)
    uint64_t scaled(uint64_t number, uint64_t room)

cdef extern from "pages.h" nogil:
    void *pages_taken(size_t size)
    void pages_given_back(void *pages, size_t size)

cdef enum:
    PARTS = 64  # of a set: each grows on its own, so that never two copies of all stand in memory

cdef uint64_t SEEDS[2]
memcpy(SEEDS, PyBytes_AS_STRING(os.urandom(16)), 16)  # nobody can make keys that meet


cdef struct Hash:
    uint64_t first
    uint64_t second


cdef void _mixed(Hash *hashed, uint64_t piece) noexcept nogil:
    mix(&hashed.first, &hashed.second, piece)


def hashes_of(list columns, uint32_t count):
    """For each of so many rows 16 bytes that stand for its values in some columns of texts, one after the other.

    A column is the offsets (32 bits each), the bytes and the validity bits (None: all are valid) of Arrow's strings,
    and the number of the row at which it begins in these."""
    cdef bytes made = PyBytes_FromStringAndSize(NULL, 16 * <Py_ssize_t>count)
    cdef Hash *hashes = <Hash *>PyBytes_AS_STRING(made)
    cdef uint32_t row
    for row in range(count):
        hashes[row].first, hashes[row].second = SEEDS[0], SEEDS[1]
    for offsets, data, validity, first in columns:
        _add_column(hashes, count, offsets, data, validity, first)
    for row in range(count):
        _mixed(&hashes[row], len(columns))
    return made


cdef int _add_column(Hash *hashes, uint32_t count, offsets, data, validity, uint32_t first) except -1:
    cdef Py_buffer views[3]
    cdef int held = 0
    cdef const int32_t *ends
    cdef const uint8_t *texts
    cdef const uint8_t *valid = NULL
    cdef const uint8_t *at
    cdef uint32_t row, length
    cdef uint64_t piece
    try:
        for buffer in (offsets, data, validity):
            if buffer is not None:
                PyObject_GetBuffer(buffer, &views[held], PyBUF_SIMPLE)
                held += 1
        ends, texts = <const int32_t *>views[0].buf, <const uint8_t *>views[1].buf
        if views[0].len < 4 * (<Py_ssize_t>first + count + 1) or views[1].len < ends[first + count]:
            raise IndexError(count)
        if validity is not None:
            valid = <const uint8_t *>views[2].buf
            if views[2].len < (<Py_ssize_t>first + count + 7) // 8:
                raise IndexError(count)
        with nogil:
            for row in range(count):
                if valid != NULL and not valid[(first + row) >> 3] >> ((first + row) & 7) & 1:
                    _mixed(&hashes[row], <uint64_t>-1)
                    continue
                at = texts + ends[first + row]
                length = ends[first + row + 1] - ends[first + row]
                _mixed(&hashes[row], length)
                while length >= 8:
                    memcpy(&piece, at, 8)
                    _mixed(&hashes[row], piece)
                    at, length = at + 8, length - 8
                if length:
                    piece = 0
                    memcpy(&piece, at, length)
                    _mixed(&hashes[row], piece)
    finally:
        while held:
            held -= 1
            PyBuffer_Release(&views[held])
    return 0


cdef struct Part:
    Hash *slots  # open addresses; a hash of nought is an empty one
    uint64_t room
    uint64_t count


cdef class HashSet:
    """Hashes of 128 bits."""

    cdef Part parts[PARTS]

    def __len__(self):
        cdef int number
        return sum([self.parts[number].count for number in range(PARTS)])

    def __dealloc__(self):
        cdef int number
        for number in range(PARTS):
            pages_given_back(self.parts[number].slots, self.parts[number].room * sizeof(Hash))

    def add_all(self, bytes hashes):
        """Adds hashes, one behind the other; for each a byte: 1 if it was there already."""
        cdef Py_ssize_t count = PyBytes_GET_SIZE(hashes) // 16
        cdef bytes made = PyBytes_FromStringAndSize(NULL, count)
        cdef uint8_t *there = <uint8_t *>PyBytes_AS_STRING(made)
        cdef const uint8_t *given = <const uint8_t *>PyBytes_AS_STRING(hashes)
        cdef Hash hashed
        cdef Part *part
        cdef Py_ssize_t row
        cdef bint full = False
        with nogil:
            for row in range(count):
                memcpy(&hashed, given + 16 * row, 16)
                if hashed.first == 0 and hashed.second == 0:
                    hashed.second = 1
                part = &self.parts[hashed.second >> 58]
                if 5 * part.count >= 4 * part.room and not _larger(part):
                    full = True
                    break
                there[row] = not _put(part.slots, part.room, hashed)
                part.count += not there[row]
        if full:
            raise MemoryError
        return made


cdef bint _put(Hash *slots, uint64_t room, Hash hashed) noexcept nogil:
    """False if it is there already."""
    cdef uint64_t place = scaled(hashed.first, room)
    while slots[place].first or slots[place].second:
        if slots[place].first == hashed.first and slots[place].second == hashed.second:
            return False
        place += 1
        if place == room:
            place = 0
    slots[place] = hashed
    return True


cdef bint _larger(Part *part) noexcept nogil:
    cdef uint64_t room = part.room + part.room // 2 + 256  # the least is a page
    cdef uint64_t place
    cdef Hash *slots = <Hash *>pages_taken(room * sizeof(Hash))
    if slots == NULL:
        return False
    for place in range(part.room):
        if part.slots[place].first or part.slots[place].second:
            _put(slots, room, part.slots[place])
    pages_given_back(part.slots, part.room * sizeof(Hash))
    part.slots, part.room = slots, room
    return True
