"""Documents → places: every node is counted at its place, a batch and a place at a time.

Nodes of one place are looked at together, so that most of the work is done by counters and
comprehensions and not by a step of the interpreter per node.
"""

from __future__ import annotations

import contextlib
from collections import Counter, defaultdict, deque
from collections.abc import Callable
from functools import partial
from itertools import accumulate, chain, combinations, islice
from operator import itemgetter

from mukret.documents import Batch
from mukret.documents.cutting import LongArray, Names
from mukret.paths import Location, Path, normalized
from mukret.survey.owners import (
    Owner,
    element_owner,
    locations,
    map_owner,
    member_owner,
    part_owner,
    row_owner,
)
from mukret.survey.parts import arrays_to_cut, nodes_of
from mukret.survey.places import MOST_SAMPLED, MOST_SIGNATURES, Place, Seen, Where
from mukret.survey.row_arrays import MOST_COLUMNS, begins_with, heads, look_like_rows
from mukret.survey.shapes import alike_values, fold_target, make_map
from mukret.values import JsonValue, Number, kind_of

MOST_PLACES = 20_000
MOST_DEPTH = 100
# So many different member names at one place make it ask whether they are data.
WIDEST = 200
MOST_NAMES = 2_000
MOST_PAIRS = 8
# Objects of a batch in which the lengths of arrays are compared.
COMPARED = 200
LONGEST_WORD = 40
# Members of the records that are kept, at all places together.
MOST_SAMPLED_MEMBERS = 200_000


class Walk:
    """Counts the nodes below the roots of the survey: the documents,
    or what a path finds in them.
    """

    def __init__(self, path: Path | None = None) -> None:
        self.path = path
        # The arrays at which long documents may be cut; None: any.
        self.arrays = arrays_to_cut(path)
        self.root = Place()
        self.places = 1
        self.roots = 0
        self.sample_left = MOST_SAMPLED_MEMBERS
        self.todo: deque[tuple[Place, list[JsonValue], list[int] | None, Owner]] = (
            deque()
        )
        self.wanted: list[tuple[Callable[[Where], None], Owner, int]] = []
        # The arrays of the last document that goes on in parts.
        self.begun: tuple[LongArray, ...] = ()
        # How many elements arrays of this batch have in all, by their identity, where the others
        # come later.
        self.lengths: dict[int, int] = {}
        # Where the elements stand that this batch goes on with.
        self.continued: Place | None = None

    def see(self, batch: Batch) -> None:
        """Counts all nodes of a batch."""
        places: list[tuple[int, Location]] = []
        # A further part of a long document: the rest of it has been counted with its first part.
        if batch.part.array is not None and self.begun:
            self._go_on(batch.documents[0], self.begun[batch.part.array].names)
        else:
            roots, places = self._roots(batch)
            self.roots += len(roots)
            if roots:
                self.todo.append((self.root, roots, None, lambda number: number))
            self._begin(batch)
        while self.todo:
            self._accept(*self.todo.popleft())
        self._locate(batch, places)
        self.continued = None
        self.lengths = {}

    def _roots(
        self, batch: Batch
    ) -> tuple[list[JsonValue], list[tuple[int, Location]]]:
        # Each document is a root.
        if self.path is None:
            return list(batch.documents), [
                (number, ()) for number in range(len(batch.documents))
            ]
        depth = len(self.arrays[0]) if self.arrays else 0
        nodes = [
            (node, (number, location))
            for number, document in enumerate(batch.documents)
            for location, node in nodes_of(document, self.path, batch.part, depth)
        ]
        return [node for node, _ in nodes], [place for _, place in nodes]

    # ---- documents in parts

    def _begin(self, batch: Batch) -> None:
        """Notes which arrays of a document have more elements than come with this batch."""
        if batch.part.begun:
            self.begun = batch.part.begun
            self.lengths = {
                id(_at(batch.documents[0], array.names)): array.elements
                for array in self.begun
            }

    def _go_on(self, document: JsonValue, names: Names) -> None:
        """Takes further elements of an array."""
        above = self.path.leading_names[0] if self.path is not None else ()
        # The array lies outside of what is looked at.
        if names[: len(above)] != above:
            return
        place, elements = self.root, _at(document, names)
        for name in names[len(above) :]:
            inner = place.members or place.children.get(name)
            if inner is None:
                break
            place = inner
        if place.elements is None:
            # Deeper than the survey follows: counted, and said so.
            place.not_followed += len(elements)
            return
        self.continued = place.elements
        owner = element_owner([elements], [len(elements)], 0)
        self.todo.append((place.elements, elements, [len(elements)], owner))

    def _length(self, array: list[JsonValue]) -> int:
        """How many elements it has, those that come later included."""
        return self.lengths.get(id(array), len(array)) if self.lengths else len(array)

    # ---- nodes of one place

    def _accept(
        self,
        place: Place,
        nodes: list[JsonValue],
        groups: list[int] | None,
        owner: Owner,
    ) -> None:
        """`groups`: how many of the nodes stand in each array, if they are all the elements of
        arrays.
        """
        place.nodes += len(nodes)
        # Most places have one kind: it is told by one pass in C, and the others are not asked for.
        types = Counter(map(type, nodes))
        for kind, count in types.items():
            self._kind(place, kind, count, nodes, owner)
        self._accept_scalars(place, nodes, types, owner)
        arrays = _of_type(nodes, list, types)
        if arrays:
            self._arrays(place, arrays)
        objects = _of_type(nodes, dict, types)
        if objects:
            whole = len(objects) == len(nodes)
            places = owner if whole else part_owner(nodes, dict, owner)
            self._objects(place, objects, groups if whole else None, places)

    def _accept_scalars(
        self, place: Place, nodes: list[JsonValue], types: Counter[type], owner: Owner
    ) -> None:
        strings = _of_type(nodes, str, types)
        if strings:
            self._strings(place, strings, nodes, owner)
        numbers = _of_type(nodes, int, types) + _of_type(nodes, Number, types)
        if numbers:
            self._scalars(place, numbers, nodes, owner, place.see_numbers)
        if bool in types:
            place.trues += sum(1 for node in nodes if node is True)

    def _kind(
        self, place: Place, kind: type, count: int, nodes: list[JsonValue], owner: Owner
    ) -> None:
        # Where it came first is kept, to be looked up when it surprises.
        first = next(index for index, node in enumerate(nodes) if type(node) is kind)
        name = kind_of(nodes[first])
        seen = place.kinds.get(name)
        if seen is None:
            seen = place.kinds[name] = Seen(
                example=nodes[first] if kind not in (dict, list) else None
            )
            self._want(seen, owner, first)
        seen.count += count

    def _strings(
        self, place: Place, strings: list[str], nodes: list[JsonValue], owner: Owner
    ) -> None:
        known, trimmed = len(place.forms), place.trimmed.count
        self._scalars(place, strings, nodes, owner, place.see_strings)
        # Forms that are new with these texts: of each the first text has a place to be told.
        fresh = [*islice(place.forms.values(), known, None)]
        if place.trimmed.count and not trimmed:
            fresh.append(place.trimmed)
        for seen in fresh:
            first = next(
                i
                for i, node in enumerate(nodes)
                if type(node) is str and node == seen.example
            )
            self._want(seen, owner, first)

    def _scalars(
        self,
        place: Place,
        values: list[JsonValue],
        nodes: list[JsonValue],
        owner: Owner,
        see: Callable[[list[JsonValue]], None],
    ) -> None:
        repeats = len(place.values.repeated)
        see(values)
        if not repeats and place.values.repeated:
            value = place.values.repeated[0]
            again = [
                i
                for i, node in enumerate(nodes)
                if type(node) is type(value) and node == value
            ]
            self._want_place(
                # Of the second one, where there are two: that is the one which surprises.
                partial(setattr, place, "repeated_where"),
                owner,
                again[:2][-1],
            )

    # ---- arrays

    def _arrays(self, place: Place, arrays: list[list[JsonValue]]) -> None:
        whole = arrays
        has_header = self._has_header(place, arrays)
        if has_header:
            arrays = [array[1:] for array in arrays]
        lengths = list(map(len, arrays))
        place.lengths.see(self._whole_lengths(whole, lengths, has_header=has_header))
        if not any(lengths):
            return
        # A table with a header is no row itself.
        if not has_header and self._as_row(place, arrays):
            return
        if place.elements is None:
            place.elements = self._new(place)
        if place.elements is None:
            place.not_followed += sum(lengths)
            return
        ends = list(accumulate(lengths))
        elements = list(chain.from_iterable(arrays))
        owner = element_owner(whole, ends, int(has_header))
        self.todo.append((place.elements, elements, lengths, owner))

    def _whole_lengths(
        self, arrays: list[list[JsonValue]], lengths: list[int], *, has_header: bool
    ) -> list[int]:
        """The lengths without headers, with the elements that come later in other parts."""
        if not self.lengths:
            return lengths
        return [self._length(array) - (has_header and bool(array)) for array in arrays]

    def _has_header(self, place: Place, arrays: list[list[JsonValue]]) -> bool:
        """Whether the arrays are tables whose first row holds the names of their columns."""
        # The first table of all decides what the names are; later ones must begin with the same
        # row.
        if place.header is None and place.lengths.lists == 0 and len(arrays[0]) > 1:
            first, second = arrays[0][:2]
            if heads(first, second):
                place.header = tuple(first)
        if place.header is None:
            return False
        return all(begins_with(array, place.header) for array in arrays if array)

    def _as_row(self, place: Place, arrays: list[list[JsonValue]]) -> bool:
        """Arrays of one length are rows where they stand in an array, and where they are a few
        numbers (coordinates) or of unlike parts: what is said of a list, and the list. Their
        elements are counted by position.
        """
        length = place.lengths.longest
        if (
            place.elements
            or not 0 < length <= MOST_COLUMNS
            or place.lengths.shortest != length
        ):
            return False
        if not look_like_rows(place, arrays, length):
            return False
        # Each position is a column, with a look of its own.
        for position in range(length):
            if position == len(place.columns):
                column = self._new(place, position=position)
                if column is None:
                    return False
                place.columns.append(column)
            cells = [array[position] for array in arrays]
            owner = row_owner(arrays, position)
            self.todo.append((place.columns[position], cells, None, owner))
        return True

    # ---- objects

    def _objects(
        self,
        place: Place,
        objects: list[dict[str, JsonValue]],
        groups: list[int] | None,
        owner: Owner,
    ) -> None:
        if place.members is None:
            members = _by_name(objects)
            # So many names are data, or memory would grow with them.
            if len(members) + len(place.children) > WIDEST:
                self._many_names(place, members, len(objects))
            if place.members is None:
                self._members(place, objects, members, groups)
                self._missing(place, objects, members, owner)
                self._records(place, objects, groups)
                return
        place.names.see(Counter(chain.from_iterable(objects)))
        values = list(chain.from_iterable(item.values() for item in objects))
        if values:
            self.todo.append((place.members, values, None, map_owner(objects)))

    def _many_names(
        self, place: Place, members: dict[str, list[JsonValue]], objects: int
    ) -> None:
        """Decides, where very many names have come, whether they are data."""
        # Names that are data come in thousands and once each. Those that come in half of the
        # objects are members, however many there are; of them only so many are followed.
        fresh = [name for name in members if name not in place.children]
        often = sum(map(len, members.values())) / (len(members) * objects)
        if (objects < 3 or often < 0.5) and alike_values(
            [members[name][0] for name in members]
        ):
            make_map(place)
            if place.members is None:
                place.members = self._new(place)
        elif len(place.children) + len(fresh) > MOST_NAMES:
            for name in fresh[max(0, MOST_NAMES - len(place.children)) :]:
                place.not_followed += len(members.pop(name))

    def _members(
        self,
        place: Place,
        objects: list[dict[str, JsonValue]],
        members: dict[str, list[JsonValue]],
        groups: list[int] | None,
    ) -> None:
        for name, values in members.items():
            owner = member_owner(objects, name)
            child = self._member(place, name, values)
            if child is None:
                place.not_followed += len(values)
                continue
            if groups is not None and child.parent is place:
                self._compare(child, values, objects, groups)
            # Put aside and not gone into: responses may be deeper than Python's stack.
            self.todo.append((child, values, None, owner))
        self._parallel(place, objects)

    def _member(self, place: Place, name: str, values: list[JsonValue]) -> Place | None:
        """The place of a member: a new one for a new name, or one further up that holds itself
        there. None if there are too many places.
        """
        child = place.children.get(name)
        if child is not None:
            return child
        # Before a new place is made: a tree would have one for each of its levels.
        above = fold_target(place, name, values)
        if above is not None:
            above.recursive = True
            return above
        child = self._new(place, step=name)
        if child is not None:
            place.children[name] = child
        return child

    def _compare(
        self,
        child: Place,
        values: list[JsonValue],
        objects: list[dict[str, JsonValue]],
        groups: list[int],
    ) -> None:
        """Notes whether the values of a member still tell the records of each list apart."""
        if not child.unique_in_list:
            return
        child.unique_in_list = len(values) == len(objects) and _unique_in_each(
            values, groups
        )
        # Of a list that goes on from an earlier part what came there counts as well.
        goes_on = child.parent is self.continued and child.values.hashes is not None
        if goes_on and child.unique_in_list and child.values.hashes is not None:
            child.unique_in_list = child.values.hashes.isdisjoint(map(hash, values))
        child.lists_compared += sum(1 for length in groups if length > 1)

    def _missing(
        self,
        place: Place,
        objects: list[dict[str, JsonValue]],
        members: dict[str, list[JsonValue]],
        owner: Owner,
    ) -> None:
        """Remembers where a member is missing first."""
        for name, child in place.children.items():
            if child.missing_where is None and len(members.get(name, ())) < len(
                objects
            ):
                first = next(
                    index for index, item in enumerate(objects) if name not in item
                )
                self._want_place(partial(setattr, child, "missing_where"), owner, first)

    def _parallel(self, place: Place, objects: list[dict[str, JsonValue]]) -> None:
        """Counts in how many objects two members are arrays of equal length."""
        first = objects[0]
        names = [name for name in place.children if type(first.get(name)) is list][
            :MOST_PAIRS
        ]
        if len(names) < 2:
            return
        # A few objects of each batch tell; each pair costs time.
        for item in objects[:COMPARED]:
            lengths = dict.fromkeys(names, 0)
            lengths |= {
                name: self._length(item[name])
                for name in names
                if type(item.get(name)) is list
            }
            for one, second in combinations(names, 2):
                # Two arrays of one element each are of equal length by chance.
                if max(lengths[one], lengths[second]) > 1:
                    pair = place.parallel.setdefault((one, second), [0, 0])
                    pair[0] += lengths[one] == lengths[second]
                    pair[1] += 1

    def _records(
        self,
        place: Place,
        objects: list[dict[str, JsonValue]],
        groups: list[int] | None,
    ) -> None:
        """Which names come together in one record."""
        # Single objects are no list, whose records could be of several sorts.
        if groups is None and place.parent is not None:
            return
        if place.signatures is not None:
            place.signatures.update(map(tuple, objects))
            if len(place.signatures) > MOST_SIGNATURES:
                place.signatures = None
        for item in objects[: MOST_SAMPLED - len(place.sampled)]:
            if len(item) <= self.sample_left:
                self.sample_left -= len(item)
                place.sampled.append(
                    {name: _short(value) for name, value in item.items()}
                )

    def _new(
        self, parent: Place, step: str | None = None, position: int | None = None
    ) -> Place | None:
        if self.places >= MOST_PLACES or parent.depth >= MOST_DEPTH:
            return None
        self.places += 1
        return Place(parent, step, position, parent.depth + 1)

    # ---- where nodes stand, for the few that are asked for

    def _want(self, seen: Seen, owner: Owner, index: int) -> None:
        self._want_place(partial(setattr, seen, "where"), owner, index)

    def _want_place(
        self, put: Callable[[Where], None], owner: Owner, index: int
    ) -> None:
        self.wanted.append((put, owner, index))

    def _locate(self, batch: Batch, places: list[tuple[int, Location]]) -> None:
        """Finds the places of the nodes that were asked for, all in one pass over the documents."""
        # A path for each node while walking would be the larger part of the work, for a few that
        # are shown. So only the container and the step are kept, and where the container stands is
        # looked for afterwards, by its identity.
        owned = [(put, owner(index)) for put, owner, index in self.wanted]
        self.wanted = []
        containers = {id(owner[0]) for _, owner in owned if not isinstance(owner, int)}
        located = locations(batch.documents, containers)
        for put, owner in owned:
            if isinstance(owner, int):
                number, location = places[owner]
            else:
                container, step = owner
                number, location = located[id(container)]
                location = self._in_document(batch, (*location, step))
            put(
                Where(
                    batch.sources[number].name,
                    batch.numbers[number],
                    normalized(location),
                )
            )

    def _in_document(self, batch: Batch, location: Location) -> Location:
        """The place in the document of what was found in a batch, which may hold a part of it."""
        if batch.part.array is None:
            return location
        names = (
            self.begun[batch.part.array].names
            if self.begun
            else (self.arrays or [()])[0]
        )
        return batch.part.in_document(location, len(names))


def _by_name(objects: list[dict[str, JsonValue]]) -> dict[str, list[JsonValue]]:
    """The members of objects, by their name in the order in which names come."""
    # Most lists hold records with the same members, which are taken by name in one go each.
    if len(set(map(len, objects))) == 1:
        with contextlib.suppress(KeyError):  # one that has as many members, but others
            return {name: list(map(itemgetter(name), objects)) for name in objects[0]}
    members: defaultdict[str, list[JsonValue]] = defaultdict(list)
    for item in objects:
        for name, value in item.items():
            members[name].append(value)
    return members


def _at(document: JsonValue, names: Names) -> JsonValue:
    """The node that some names of members lead to."""
    for name in names:
        document = document[name]
    return document


def _of_type(
    nodes: list[JsonValue], kind: type, types: Counter[type]
) -> list[JsonValue]:
    count = types.get(kind, 0)
    if not count:
        return []
    return (
        nodes if count == len(nodes) else [node for node in nodes if type(node) is kind]
    )


def _short(value: JsonValue) -> JsonValue:
    return value if type(value) is str and len(value) <= LONGEST_WORD else None


def _unique_in_each(values: list[JsonValue], groups: list[int]) -> bool:
    start = 0
    try:
        for length in groups:
            if len(set(values[start : start + length])) != length:
                return False
            start += length
    except TypeError:  # arrays and objects are no ids
        return False
    return True
