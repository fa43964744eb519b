# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""A block of bytes and a program → rows and cells, in one pass, without a Python object for each value."""

import os

from cpython.bytes cimport PyBytes_AS_STRING, PyBytes_GET_SIZE
from cpython.buffer cimport PyBuffer_FillInfo
from libc.stdint cimport int32_t, uint8_t, uint32_t, uint64_t
from libc.stdlib cimport calloc, free, malloc, realloc
from libc.string cimport memchr, memcmp, memcpy, memset

cdef extern from "reading.h" nogil:
    int MOST_LEVELS
    bint is_space(uint8_t byte)
    const uint8_t *after_space(const uint8_t *at, const uint8_t *end)
    const uint8_t *string_end(const uint8_t *at, const uint8_t *limit, int *escaped)
    const uint8_t *number_end(const uint8_t *at, int *whole)
    const uint8_t *word_end(const uint8_t *at, const char *word, int length, const uint8_t *end)
    const uint8_t *value_end(const uint8_t *at, const uint8_t *end, const uint8_t *limit, int level)
    uint32_t unescaped(const uint8_t *start, uint32_t length, uint8_t *to)
    uint32_t quick_hash(const uint8_t *name, uint32_t length)
    uint64_t hash_seed
    uint64_t name_hash(const uint8_t *name, uint32_t length)
    bint put_hash(uint64_t *hashes, uint32_t *marks, uint32_t room, uint64_t hashed, uint32_t mark)

hash_seed = int.from_bytes(os.urandom(8), "little")

# The kinds of what stands in a cell (`kinds.py`).
cdef enum:
    MISSING, NULL_, FALSE, TRUE, INTEGER, NUMBER, TEXT, ESCAPED, ARRAY, OBJECT

cdef enum:
    NOTHING = -1  # of states: nobody reads what stands there
    MOST_HASHES = 1 << 16  # of names; after so many the next document begins anew
    MOST_LISTED = 64  # names of an object; of more, hashes are in a table

# What a step of a path takes.
cdef enum:
    TAKES_OBJECTS = 1
    TAKES_ARRAYS = 2

cdef enum Outcome:
    READ, WRONG, TWICE, NO_MEMORY


# ---- the program

cdef struct Member:
    const uint8_t *name
    uint32_t length
    int32_t target
    int32_t next_alike  # the next one with the same hash


cdef struct Pair:
    int32_t first
    int32_t second


cdef struct Step:
    int32_t table
    int32_t which  # a source of the table, or a segment of the path to its rows
    int32_t takes


cdef struct State:
    Member *members
    int32_t count
    int32_t *buckets
    uint32_t mask
    int32_t hint  # no value of the program, but of a scan: the member that is likely to come next
    int32_t any_member
    Pair *indexes  # element → state, ascending
    int32_t index_count
    int32_t any_element
    int32_t if_array  # the state that stands in for this one where an array is
    int32_t if_null
    Pair *cells  # table, column
    int32_t cell_count
    int32_t *rows  # tables
    int32_t row_count
    Step *steps  # sources of which a step stands before this value
    int32_t step_count
    Step *met  # paths to rows of which a step stands before this value
    int32_t met_count
    bint lends_name  # elements stand under the name of their array
    bint plain  # nothing but cells: if its value comes again, the cells are written over


cdef struct TableShape:
    int32_t parent
    int32_t columns
    bint named
    bint outer
    int32_t *outer_children
    int32_t outer_count


cdef void *_copied(list values, size_t size) except? NULL:
    """Memory for an array of a list's length, at least one."""
    cdef void *memory = calloc(max(1, len(values)), size)
    if memory == NULL:
        raise MemoryError
    return memory


cdef class Program:
    """States, each a mapping of what `program.State` has; tables, of what `program.TableShape` has."""

    cdef State *states
    cdef int32_t state_count
    cdef TableShape *tables
    cdef readonly int32_t table_count
    cdef list names

    def __cinit__(self, list states, list tables):
        cdef int32_t number
        self.names = []
        self.state_count, self.table_count = len(states), len(tables)
        self.states = <State *>_copied(states, sizeof(State))
        self.tables = <TableShape *>_copied(tables, sizeof(TableShape))
        for number, state in enumerate(states):
            self.make_state(&self.states[number], state)
        for number, table in enumerate(tables):
            self.tables[number].parent = table.parent
            self.tables[number].columns = table.columns
            self.tables[number].named = table.named
            self.tables[number].outer = table.outer
            children = [n for n, other in enumerate(tables) if n and other.parent == number and other.outer]
            self.tables[number].outer_children = <int32_t *>_copied(children, sizeof(int32_t))
            self.tables[number].outer_count = len(children)
            for place, child in enumerate(children):
                self.tables[number].outer_children[place] = child

    cdef int make_state(self, State *made, state) except -1:
        cdef int32_t place
        cdef bytes name
        made.count = len(state.members)
        made.members = <Member *>_copied(list(state.members), sizeof(Member))
        made.mask = 1
        while made.mask < 2 * <uint32_t>made.count:
            made.mask *= 2
        made.buckets = <int32_t *>malloc(made.mask * sizeof(int32_t))
        if made.buckets == NULL:
            raise MemoryError
        memset(made.buckets, 0xFF, made.mask * sizeof(int32_t))
        made.mask -= 1
        for place, (name, target) in enumerate(state.members.items()):
            self.names.append(name)
            made.members[place].name = <const uint8_t *>PyBytes_AS_STRING(name)
            made.members[place].length = len(name)
            made.members[place].target = target
            bucket = quick_hash(made.members[place].name, made.members[place].length) & made.mask
            made.members[place].next_alike = made.buckets[bucket]
            made.buckets[bucket] = place
        made.any_member, made.any_element = state.any_member, state.any_element
        made.if_array, made.if_null = state.if_array, state.if_null
        made.indexes, made.index_count = self.pairs(sorted(state.indexes.items())), len(state.indexes)
        made.cells, made.cell_count = self.pairs(list(state.cells)), len(state.cells)
        made.rows, made.row_count = <int32_t *>_copied(list(state.rows), sizeof(int32_t)), len(state.rows)
        for place, table in enumerate(state.rows):
            made.rows[place] = table
        made.steps, made.step_count = self.steps_of(state.steps), len(state.steps)
        made.met, made.met_count = self.steps_of(state.met), len(state.met)
        made.lends_name = state.lends_name
        made.plain = not (
            state.members or state.indexes or state.rows or state.steps or state.met
            or state.any_member != NOTHING or state.any_element != NOTHING
        )
        return 0

    cdef Pair *pairs(self, list values) except NULL:
        cdef Pair *made = <Pair *>_copied(values, sizeof(Pair))
        for place, (first, second) in enumerate(values):
            made[place].first, made[place].second = first, second
        return made

    cdef Step *steps_of(self, steps) except NULL:
        cdef Step *made = <Step *>_copied(list(steps), sizeof(Step))
        for place, (table, which, takes) in enumerate(steps):
            made[place].table, made[place].which, made[place].takes = table, which, takes
        return made

    def __dealloc__(self):
        cdef int32_t number
        if self.states != NULL:
            for number in range(self.state_count):
                free(self.states[number].members)
                free(self.states[number].buckets)
                free(self.states[number].indexes)
                free(self.states[number].cells)
                free(self.states[number].rows)
                free(self.states[number].steps)
                free(self.states[number].met)
            free(self.states)
        if self.tables != NULL:
            for number in range(self.table_count):
                free(self.tables[number].outer_children)
            free(self.tables)


# ---- what a scan finds

cdef struct Cells:
    uint8_t *kinds
    uint32_t *starts
    uint32_t *lengths


cdef struct Rows:
    uint32_t count
    uint32_t room
    uint32_t *owners
    Cells node  # the row itself
    Cells name  # the name of the member that it is
    Cells *columns
    Step *events  # table: the row; which: the source or segment
    uint32_t event_count
    uint32_t event_room
    Step *met
    uint32_t met_count
    uint32_t met_room
    uint32_t current  # the row whose values are read
    uint32_t kept  # rows, events and met before the document that is read
    uint32_t kept_events
    uint32_t kept_met


cdef struct Reader:
    State *states
    TableShape *shapes
    Rows *tables
    int32_t table_count
    const uint8_t *buffer
    const uint8_t *limit
    const uint8_t *end  # of the document
    const uint8_t *name  # of the member whose value is read; NULL: it is none
    uint32_t name_length
    int name_escaped
    int level
    int outcome
    uint64_t *names_seen  # a stack of bits: which members of the objects around have come
    uint32_t seen_count
    uint32_t seen_room
    uint64_t *few_hashes  # of the names in objects of which any member is read (`Names`)
    uint32_t few_count
    uint32_t few_room
    uint64_t *hashes
    uint32_t *hash_marks
    uint32_t hash_room
    uint32_t hash_count
    uint32_t hash_mark


cdef bint _grown(void **memory, size_t size, uint32_t used, uint32_t room) noexcept nogil:
    """Makes room, and nulls what was not there before."""
    cdef void *larger = realloc(memory[0], room * size)
    if larger == NULL:
        return False
    memset(<uint8_t *>larger + used * size, 0, (room - used) * size)
    memory[0] = larger
    return True


cdef bint _cells_grown(Cells *cells, uint32_t used, uint32_t room) noexcept nogil:
    return (
        _grown(<void **>&cells.kinds, 1, used, room)
        and _grown(<void **>&cells.starts, sizeof(uint32_t), used, room)
        and _grown(<void **>&cells.lengths, sizeof(uint32_t), used, room)
    )


cdef bint _room_for_row(Rows *rows, TableShape *shape) noexcept nogil:
    cdef uint32_t room = rows.room * 2 if rows.room else 64
    cdef int32_t column
    if not (_grown(<void **>&rows.owners, sizeof(uint32_t), rows.count, room) and _cells_grown(&rows.node, rows.count, room)):
        return False
    if shape.named and not _cells_grown(&rows.name, rows.count, room):
        return False
    for column in range(shape.columns):
        if not _cells_grown(&rows.columns[column], rows.count, room):
            return False
    rows.room = room
    return True


cdef bint _room_for_step(Step **steps, uint32_t count, uint32_t *room) noexcept nogil:
    cdef uint32_t larger
    if count < room[0]:
        return True
    larger = room[0] * 2 if room[0] else 16
    if not _grown(<void **>steps, sizeof(Step), count, larger):
        return False
    room[0] = larger
    return True


cdef bint _row_begun(Reader *reader, int32_t table) noexcept nogil:
    """A new row; its cells are missing."""
    cdef Rows *rows = &reader.tables[table]
    if rows.count == rows.room and not _room_for_row(rows, &reader.shapes[table]):
        reader.outcome = NO_MEMORY
        return False
    if table:
        rows.owners[rows.count] = reader.tables[reader.shapes[table].parent].current
    rows.current = rows.count
    if reader.shapes[table].named and reader.name != NULL:
        rows.name.kinds[rows.count] = ESCAPED if reader.name_escaped else TEXT
        rows.name.starts[rows.count] = <uint32_t>(reader.name - reader.buffer)
        rows.name.lengths[rows.count] = reader.name_length
    rows.count += 1
    return True


cdef bint _outer_rows(Reader *reader, int32_t table) noexcept nogil:
    """Rows that stand for none, below a row in which none was found."""
    cdef int32_t place, child
    cdef Rows *rows
    for place in range(reader.shapes[table].outer_count):
        child = reader.shapes[table].outer_children[place]
        rows = &reader.tables[child]
        if rows.count and rows.owners[rows.count - 1] == reader.tables[table].current:
            continue
        reader.name = NULL
        if not _row_begun(reader, child) or not _outer_rows(reader, child):
            return False
    return True


cdef void _cell_set(Cells *cells, uint32_t row, uint8_t kind, uint32_t start, uint32_t length) noexcept nogil:
    cells.kinds[row] = kind
    cells.starts[row] = start
    cells.lengths[row] = length


cdef bint _steps_noted(Reader *reader, State *state, uint8_t kind, uint32_t start, uint32_t length) noexcept nogil:
    """What stands before a value that holds something, and can take no step into it."""
    cdef int32_t place
    cdef Step *step
    cdef Rows *rows
    cdef uint8_t takes = TAKES_OBJECTS if kind == OBJECT else TAKES_ARRAYS if kind == ARRAY else 0
    for place in range(state.step_count):
        step = &state.steps[place]
        if not step.takes & takes:
            rows = &reader.tables[step.table]
            if not _room_for_step(&rows.events, rows.event_count, &rows.event_room):
                reader.outcome = NO_MEMORY
                return False
            rows.events[rows.event_count].table = rows.current
            rows.events[rows.event_count].which = step.which
            rows.event_count += 1
    for place in range(state.met_count):
        step = &state.met[place]
        if not step.takes & takes:
            rows = &reader.tables[step.table]
            reader.name = NULL
            if not _row_begun(reader, step.table) or not _room_for_step(&rows.met, rows.met_count, &rows.met_room):
                reader.outcome = NO_MEMORY
                return False
            _cell_set(&rows.node, rows.current, kind, start, length)
            rows.met[rows.met_count].table = rows.current
            rows.met[rows.met_count].which = step.which
            rows.met_count += 1
    return True


cdef int32_t _member(State *state, const uint8_t *name, uint32_t length) noexcept nogil:
    """The number of the member with this name; -1 if it is not wanted. Members mostly come in the same order."""
    cdef int32_t place = state.hint
    cdef Member *member
    if place < state.count:
        member = &state.members[place]
        if member.length == length and memcmp(member.name, name, length) == 0:
            state.hint = place + 1
            return place
    place = state.buckets[quick_hash(name, length) & state.mask]
    while place >= 0:
        member = &state.members[place]
        if member.length == length and memcmp(member.name, name, length) == 0:
            state.hint = place + 1
            return place
        place = member.next_alike
    return -1


# The names of the members that an object has had, by their hashes: a few in a list, behind those of the objects
# around; many in a table that all objects share, under a mark of their own.
cdef struct Names:
    uint32_t first
    uint32_t count
    uint32_t mark
    uint64_t bits  # one for each hash: most names are new, which this tells at once


cdef int _came_before(Reader *reader, Names *names, const uint8_t *name, uint32_t length) noexcept nogil:
    """Whether an object had a member of this name (or, which is rare, of this hash); notes it. -1: no memory."""
    cdef uint64_t hashed = name_hash(name, length)
    cdef uint64_t bit = <uint64_t>1 << (hashed >> 58)
    cdef uint32_t place
    if names.mark:
        return _in_table(reader, names.mark, hashed)
    if names.bits & bit:
        for place in range(names.count):
            if reader.few_hashes[names.first + place] == hashed:
                return 1
    names.bits |= bit
    if names.count < MOST_LISTED:
        if reader.few_count == reader.few_room:
            if not _grown(<void **>&reader.few_hashes, sizeof(uint64_t), reader.few_count, 2 * reader.few_room + 64):
                return -1
            reader.few_room = 2 * reader.few_room + 64
        reader.few_hashes[names.first + names.count] = hashed
        names.count += 1
        reader.few_count = names.first + names.count
        return 0
    reader.hash_mark += 1
    names.mark = reader.hash_mark
    for place in range(names.count):
        if _in_table(reader, names.mark, reader.few_hashes[names.first + place]) < 0:
            return -1
    return _in_table(reader, names.mark, hashed)


cdef int _in_table(Reader *reader, uint32_t mark, uint64_t hashed) noexcept nogil:
    """The same for one of many names of an object."""
    cdef uint32_t room, place
    cdef uint64_t *hashes
    cdef uint32_t *marks
    if 2 * reader.hash_count >= reader.hash_room:
        room = reader.hash_room * 2 if reader.hash_room else 1024
        hashes = <uint64_t *>calloc(room, sizeof(uint64_t))
        marks = <uint32_t *>calloc(room, sizeof(uint32_t))
        if hashes == NULL or marks == NULL:
            free(hashes)
            free(marks)
            return -1
        for place in range(reader.hash_room):
            if reader.hash_marks[place]:
                put_hash(hashes, marks, room, reader.hashes[place], reader.hash_marks[place])
        free(reader.hashes)
        free(reader.hash_marks)
        reader.hashes, reader.hash_marks, reader.hash_room = hashes, marks, room
    if not put_hash(reader.hashes, reader.hash_marks, reader.hash_room, hashed, mark):
        return 1
    reader.hash_count += 1
    return 0


cdef const uint8_t *_value(Reader *reader, const uint8_t *at, int32_t number) noexcept nogil:
    """Reads the value that begins here, for which a state waits; gives the place behind it, NULL if it is wrong."""
    cdef State *state = &reader.states[number]
    cdef const uint8_t *start = at
    cdef uint8_t kind
    cdef int flag = 0
    cdef uint32_t length, offset, row
    cdef int32_t place
    cdef bint holds
    if at >= reader.end:
        return NULL
    if at[0] == 91 and state.if_array != NOTHING:  # [
        state = &reader.states[state.if_array]
    elif at[0] == 110 and state.if_null != NOTHING:  # n
        state = &reader.states[state.if_null]
    for place in range(state.row_count):
        if not _row_begun(reader, state.rows[place]):
            return NULL
    if at[0] == 34:  # "
        at = string_end(at + 1, reader.limit, &flag)
        if at == NULL:
            return NULL
        kind = ESCAPED if flag else TEXT
        offset, length = <uint32_t>(start + 1 - reader.buffer), <uint32_t>(at - start - 1)
        holds = length > 0
        at += 1
    else:
        if at[0] == 123:  # {
            kind = OBJECT
            at = _object(reader, at, state)
            holds = at != NULL and not (at - start == 2 or after_space(start + 1, at) == at - 1)
        elif at[0] == 91:
            kind = ARRAY
            at = _array(reader, at, state)
            holds = at != NULL and not (at - start == 2 or after_space(start + 1, at) == at - 1)
        elif at[0] == 110:
            kind, holds = NULL_, False
            at = word_end(at, "null", 4, reader.end)
        elif at[0] == 116:
            kind, holds = TRUE, True
            at = word_end(at, "true", 4, reader.end)
        elif at[0] == 102:
            kind, holds = FALSE, True
            at = word_end(at, "false", 5, reader.end)
        else:
            at = number_end(at, &flag)
            kind, holds = INTEGER if flag else NUMBER, True
        if at == NULL:
            return NULL
        offset, length = <uint32_t>(start - reader.buffer), <uint32_t>(at - start)
    for place in range(state.cell_count):
        row = reader.tables[state.cells[place].first].current
        _cell_set(&reader.tables[state.cells[place].first].columns[state.cells[place].second], row, kind, offset, length)
    if holds and (state.step_count or state.met_count):
        if not _steps_noted(reader, state, kind, offset, length):
            return NULL
    for place in range(state.row_count):
        row = reader.tables[state.rows[place]].current
        _cell_set(&reader.tables[state.rows[place]].node, row, kind, offset, length)
        if reader.shapes[state.rows[place]].outer_count and not _outer_rows(reader, state.rows[place]):
            return NULL
    return at


cdef const uint8_t *_object(Reader *reader, const uint8_t *at, State *state) noexcept nogil:
    """Reads an object; `at` is its brace."""
    cdef const uint8_t *name
    cdef const uint8_t *unescaped_name
    cdef uint8_t *spare
    cdef uint32_t length, plain_length, first_seen = reader.seen_count, first_hash = reader.few_count, words
    cdef Names names
    cdef bint any_name = state.any_member != NOTHING
    cdef int escaped
    cdef int32_t place, target
    cdef uint64_t bit
    if state.count == 0 and state.any_member == NOTHING:
        return value_end(at, reader.end, reader.limit, reader.level)
    if reader.level >= MOST_LEVELS:
        return NULL
    at = after_space(at + 1, reader.end)
    if at < reader.end and at[0] == 125:  # }
        return at + 1
    reader.level += 1
    words = (<uint32_t>state.count + 63) // 64
    if reader.seen_count + words > reader.seen_room:
        if not _grown(<void **>&reader.names_seen, sizeof(uint64_t), reader.seen_count, 2 * (reader.seen_count + words)):
            reader.outcome = NO_MEMORY
            return NULL
        reader.seen_room = 2 * (reader.seen_count + words)
    if words:
        memset(&reader.names_seen[first_seen], 0, words * sizeof(uint64_t))
        reader.seen_count += words
    names.first, names.count, names.mark, names.bits = first_hash, 0, 0, 0
    state.hint = 0
    while True:
        if at >= reader.end or at[0] != 34:
            return NULL
        name = at + 1
        escaped = 0
        at = string_end(name, reader.limit, &escaped)
        if at == NULL:
            return NULL
        length = <uint32_t>(at - name)
        at = after_space(at + 1, reader.end)
        if at >= reader.end or at[0] != 58:  # :
            return NULL
        at = after_space(at + 1, reader.end)
        if escaped:
            spare = <uint8_t *>malloc(length)
            if spare == NULL:
                reader.outcome = NO_MEMORY
                return NULL
            plain_length = unescaped(name, length, spare)
            place = _member(state, spare, plain_length)
            if any_name and _came_before(reader, &names, spare, plain_length):
                reader.outcome = TWICE
                free(spare)
                return NULL
            free(spare)
        else:
            place = _member(state, name, length)
            if any_name and _came_before(reader, &names, name, length):
                reader.outcome = TWICE
                return NULL
        if place >= 0:
            target = state.members[place].target
            bit = <uint64_t>1 << (place % 64)
            if reader.names_seen[first_seen + place // 64] & bit and not reader.states[target].plain:
                reader.outcome = TWICE
                return NULL
            reader.names_seen[first_seen + place // 64] |= bit
        else:
            target = state.any_member
        if target == NOTHING:
            at = value_end(at, reader.end, reader.limit, reader.level)
        else:
            reader.name, reader.name_length, reader.name_escaped = name, length, escaped
            at = _value(reader, at, target)
        if at == NULL:
            return NULL
        at = after_space(at, reader.end)
        if at >= reader.end:
            return NULL
        if at[0] == 125:
            break
        if at[0] != 44:  # ,
            return NULL
        at = after_space(at + 1, reader.end)
    reader.level -= 1
    reader.seen_count, reader.few_count = first_seen, first_hash
    return at + 1


cdef const uint8_t *_array(Reader *reader, const uint8_t *at, State *state) noexcept nogil:
    """Reads an array; `at` is its bracket."""
    cdef const uint8_t *name = reader.name if state.lends_name else NULL
    cdef uint32_t name_length = reader.name_length
    cdef int name_escaped = reader.name_escaped
    cdef int32_t element = 0, place = 0, target
    if state.any_element == NOTHING and state.index_count == 0:
        return value_end(at, reader.end, reader.limit, reader.level)
    if reader.level >= MOST_LEVELS:
        return NULL
    at = after_space(at + 1, reader.end)
    if at < reader.end and at[0] == 93:  # ]
        return at + 1
    reader.level += 1
    while True:
        target = state.any_element
        if place < state.index_count and state.indexes[place].first == element:
            target = state.indexes[place].second
            place += 1
        if target == NOTHING:
            at = value_end(at, reader.end, reader.limit, reader.level)
        else:
            reader.name, reader.name_length, reader.name_escaped = name, name_length, name_escaped
            at = _value(reader, at, target)
        if at == NULL:
            return NULL
        at = after_space(at, reader.end)
        if at >= reader.end:
            return NULL
        if at[0] == 93:
            break
        if at[0] != 44:
            return NULL
        element += 1
        at = after_space(at + 1, reader.end)
    reader.level -= 1
    return at + 1


# ---- for Python

cdef class Memory:
    """An array of numbers that a scan made; anything may look at it as a buffer, for as long as that wants."""

    cdef void *memory
    cdef Py_ssize_t size
    cdef object owner

    def __getbuffer__(self, Py_buffer *view, int flags):
        PyBuffer_FillInfo(view, self, self.memory, self.size, 1, flags)

    def __releasebuffer__(self, Py_buffer *view):
        pass

    def __len__(self):
        return self.size


cdef uint64_t NO_BYTES = 0


cdef Memory _memory(object owner, void *memory, Py_ssize_t size):
    cdef Memory made = Memory.__new__(Memory)
    made.owner, made.size = owner, size
    made.memory = memory if memory != NULL else &NO_BYTES  # a buffer stands somewhere, even an empty one
    return made


cdef class Scan:
    """What a program finds in a buffer of bytes, document by document.

    Offsets count from the beginning of the buffer, which has fewer than 2^32 bytes. Memory that is handed out stays
    valid as long as something holds it, and is complete when the last document was read.
    """

    cdef Program program
    cdef readonly bytes buffer
    cdef Reader reader

    def __cinit__(self, Program program, bytes buffer):
        cdef int32_t number, count = program.table_count
        if PyBytes_GET_SIZE(buffer) >= 0xFFFFFFF0:
            raise OverflowError("a buffer of 4 GB or more")
        self.program, self.buffer = program, buffer
        memset(&self.reader, 0, sizeof(Reader))
        self.reader.table_count = count
        # hints change while a scan goes on, and several may go on at once
        self.reader.states = <State *>malloc(program.state_count * sizeof(State))
        self.reader.tables = <Rows *>calloc(max(1, count), sizeof(Rows))
        if self.reader.states == NULL or self.reader.tables == NULL:
            raise MemoryError
        memcpy(self.reader.states, program.states, program.state_count * sizeof(State))
        self.reader.shapes = program.tables
        for number in range(count):
            self.reader.tables[number].columns = <Cells *>calloc(max(1, program.tables[number].columns), sizeof(Cells))
            if self.reader.tables[number].columns == NULL:
                raise MemoryError
        self.reader.buffer = <const uint8_t *>PyBytes_AS_STRING(buffer)
        self.reader.limit = self.reader.buffer + PyBytes_GET_SIZE(buffer)

    def __dealloc__(self):
        cdef int32_t number, column
        cdef Rows *rows
        free(self.reader.states)
        free(self.reader.names_seen)
        free(self.reader.few_hashes)
        free(self.reader.hashes)
        free(self.reader.hash_marks)
        if self.reader.tables == NULL:
            return
        for number in range(self.reader.table_count):
            rows = &self.reader.tables[number]
            free(rows.owners)
            _freed(&rows.node)
            _freed(&rows.name)
            free(rows.events)
            free(rows.met)
            if rows.columns != NULL:
                for column in range(self.program.tables[number].columns):
                    _freed(&rows.columns[column])
                free(rows.columns)
        free(self.reader.tables)

    def document(self, uint32_t start, uint32_t end):
        """Reads the one document between two offsets; False if it is none that this reads: what it is, somebody else
        must say. Raises MemoryError."""
        cdef bint read
        if end > PyBytes_GET_SIZE(self.buffer) or start > end:
            raise IndexError(end)
        with nogil:
            read = _document(&self.reader, self.reader.buffer + start, self.reader.buffer + end) == READ
        if self.reader.outcome == NO_MEMORY:
            raise MemoryError
        return read

    def lines(self, uint32_t start, uint32_t end):
        """Reads the documents in the lines between two offsets, blank lines left out. Gives the offset of the first
        line that is none that this reads, before which all were read; `end` if all were. Raises MemoryError."""
        cdef const uint8_t *at = self.reader.buffer + start
        cdef const uint8_t *last = self.reader.buffer + end
        cdef const uint8_t *line_end
        cdef const uint8_t *first
        if end > PyBytes_GET_SIZE(self.buffer) or start > end:
            raise IndexError(end)
        with nogil:
            while at < last:
                line_end = <const uint8_t *>memchr(at, 10, last - at)
                if line_end == NULL:
                    line_end = last
                first = after_space(at, line_end)
                if first < line_end and _document(&self.reader, first, line_end) != READ:
                    break
                at = line_end + 1
        if self.reader.outcome == NO_MEMORY:
            raise MemoryError
        return min(end, at - self.reader.buffer)

    def count(self, int32_t table):
        """How many rows a table has."""
        return self.rows(table).count

    def owners(self, int32_t table):
        """For each row the number of its parent's: 32 bits each."""
        cdef Rows *rows = self.rows(table)
        return _memory(self, rows.owners, rows.count * sizeof(uint32_t))

    def nodes(self, int32_t table):
        """Kinds (8 bits), starts and lengths (32 bits each) of the rows themselves."""
        cdef Rows *rows = self.rows(table)
        return self.cells(&rows.node, rows.count)

    def names(self, int32_t table):
        """The same of the names of the members that the rows are; missing where a row is none."""
        cdef Rows *rows = self.rows(table)
        if not self.program.tables[table].named:
            raise IndexError(table)
        return self.cells(&rows.name, rows.count)

    def column(self, int32_t table, int32_t column):
        """The same of the values of a column."""
        cdef Rows *rows = self.rows(table)
        if not 0 <= column < self.program.tables[table].columns:
            raise IndexError(column)
        return self.cells(&rows.columns[column], rows.count)

    def met(self, int32_t table):
        """The rows that were not found, but stand where a step of the path to rows met another kind, each with the
        number of the step."""
        cdef Rows *rows = self.rows(table)
        return [(rows.met[number].table, rows.met[number].which) for number in range(rows.met_count)]

    def events(self, int32_t table):
        """The rows in which a step of the path to a value met another kind, each with the number of the source."""
        cdef Rows *rows = self.rows(table)
        return [(rows.events[number].table, rows.events[number].which) for number in range(rows.event_count)]

    cdef Rows *rows(self, int32_t table) except NULL:
        if not 0 <= table < self.reader.table_count:
            raise IndexError(table)
        return &self.reader.tables[table]

    cdef tuple cells(self, Cells *cells, uint32_t count):
        return (
            _memory(self, cells.kinds, count),
            _memory(self, cells.starts, count * sizeof(uint32_t)),
            _memory(self, cells.lengths, count * sizeof(uint32_t)),
        )


cdef void _freed(Cells *cells) noexcept:
    free(cells.kinds)
    free(cells.starts)
    free(cells.lengths)


cdef int _document(Reader *reader, const uint8_t *at, const uint8_t *end) noexcept nogil:
    """Reads a document between two places; what it may have at its ends is white space. Keeps nothing of it if it is
    wrong."""
    cdef int32_t number
    cdef Rows *rows
    for number in range(reader.table_count):
        rows = &reader.tables[number]
        rows.kept, rows.kept_events, rows.kept_met = rows.count, rows.event_count, rows.met_count
    reader.end = end
    reader.level = 0
    reader.seen_count = reader.few_count = 0
    reader.name = NULL
    reader.outcome = READ
    if reader.hash_count > MOST_HASHES:
        free(reader.hashes)
        free(reader.hash_marks)
        reader.hashes, reader.hash_marks = NULL, NULL
        reader.hash_room = reader.hash_count = reader.hash_mark = 0
    at = _value(reader, after_space(at, end), 0)
    if at == NULL or after_space(at, end) != end:
        if reader.outcome == READ:
            reader.outcome = WRONG
        _taken_back(reader)
    return reader.outcome


cdef void _taken_back(Reader *reader) noexcept nogil:
    """Forgets the rows of the document that was read last; their cells are missing again."""
    cdef int32_t number, column
    cdef Rows *rows
    cdef uint32_t gone
    for number in range(reader.table_count):
        rows = &reader.tables[number]
        gone = rows.count - rows.kept
        if gone:
            memset(rows.node.kinds + rows.kept, MISSING, gone)
            if reader.shapes[number].named:
                memset(rows.name.kinds + rows.kept, MISSING, gone)
            for column in range(reader.shapes[number].columns):
                memset(rows.columns[column].kinds + rows.kept, MISSING, gone)
        rows.count, rows.event_count, rows.met_count = rows.kept, rows.kept_events, rows.kept_met


def counted_lines(bytes text):
    """How many line ends there are, and how many lines that are not blank."""
    cdef const uint8_t *at = <const uint8_t *>PyBytes_AS_STRING(text)
    cdef const uint8_t *end = at + PyBytes_GET_SIZE(text)
    cdef const uint8_t *line_end
    cdef Py_ssize_t line_ends = 0, filled = 0
    with nogil:
        while at < end:
            line_end = <const uint8_t *>memchr(at, 10, end - at)
            if line_end == NULL:
                line_end = end
            else:
                line_ends += 1
            while at < line_end and (is_space(at[0]) or at[0] == 11 or at[0] == 12):  # as bytes.isspace has it
                at += 1
            filled += at < line_end
            at = line_end + 1
    return line_ends, filled


def is_json(bytes text):
    """Whether a text is JSON, in as many levels as a scan reads."""
    cdef const uint8_t *at = <const uint8_t *>PyBytes_AS_STRING(text)
    cdef const uint8_t *end = at + PyBytes_GET_SIZE(text)
    with nogil:
        at = value_end(after_space(at, end), end, end, 0)
        if at != NULL:
            at = after_space(at, end)
    return at == end
