"""The responses, made up with a seed, and the rules by hand.

The rules were written first, out of the response alone.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable
from dataclasses import dataclass
from random import Random
from typing import Any

Document = Any
Made = Callable[[Random], list[Document]]


@dataclass(frozen=True)
class Case:
    """`documents` come one to a file, unless `lines`.

    `rules` are the tables (and response, enums, kinds) by hand.
    """

    name: str
    documents: Made
    rules: str
    lines: bool = False


CASES: list[Case] = []


def case(rules: str, *, lines: bool = False) -> Callable[[Made], Made]:
    def added(made: Made) -> Made:
        CASES.append(Case(made.__name__, made, rules, lines))
        return made

    return added


def day(rng: Random, number: int) -> str:
    return f"2031-{1 + number // 28 % 12:02}-{1 + number % 28:02}"


def moment(rng: Random, number: int) -> str:
    return f"{day(rng, number)}T{rng.randrange(5, 23):02}:{rng.randrange(60):02}:00Z"


def code(rng: Random, digits: int = 16) -> str:
    return "".join(rng.choice("123456789") for _ in range(digits))


PORTS = [
    "Otterness",
    "Vesshaven",
    "Skerrywick",
    "Holm",
    "Inner Merrow",
    "Tarn Quay",
    "Ravnsund",
    "Ebbing",
]
VESSELS = ["Petrel", "Gannet", "Puffin", "Heron", "Guillemot", "Tern"]
STATES = ["scheduled", "boarding", "departed", "arrived", "cancelled"]


# ---- lists and words in texts


@case(
    """
tables:
  trips:
    rows: "$.trips[*]"
    key: trip_id
    fields:
      trip_id: {at: "$.id", type: integer}
      tickets: {at: "$.tickets", type: list(text), split: ","}
      pets: {at: "$.pets", type: list(text), split: ","}
      departs: {at: "$.departs", type: timestamp}
"""
)
def lists_in_texts(rng: Random) -> list[Document]:
    return [
        {
            "trips": [
                {
                    "id": 1000 + 40 * file + n,
                    "tickets": ",".join(
                        code(rng) for _ in range(rng.choice([1, 1, 2, 3]))
                    ),
                    "pets": ",".join(
                        rng.sample(["car", "dog", "bicycle"], rng.randrange(1, 3))
                    ),
                    "departs": moment(rng, n),
                }
                for n in range(40)
            ]
        }
        for file in range(2)
    ]


@case(
    """
tables:
  lines:
    rows: "$.lines[*]"
    key: line_id
    fields:
      line_id: {at: "$.id"}
      runs: {at: "$.runs"}
      berth: {at: "$.berth", type: integer}
      fare: {at: "$.fare", type: "decimal(18,2)"}
"""
)
def words_with_exceptions(rng: Random) -> list[Document]:
    return [
        {
            "lines": [
                {
                    "id": f"L{40 * file + n}",
                    "runs": rng.choice(["y", "n", "y", "y", "partly"]),
                    "berth": n % 7 + 1 if n != 11 else "on request",
                    "fare": f"{rng.randrange(4, 90)}.{rng.randrange(100):02}"
                    if n != 17
                    else "ask",
                }
                for n in range(40)
            ]
        }
        for file in range(2)
    ]


@case(
    """
response:
  fields:
    file: {fact: file}
tables:
  calls:
    rows: "$[*]"
    inherit: [file]
    fields:
      call: {at: "$.call", type: integer}
      port: {at: "$.port"}
  stops:
    within: calls
    rows: "$.stops[*]"
    inherit: [file]
    fields:
      quay: {at: "$.quay"}
      minutes: {at: "$.minutes", type: integer}
"""
)
def keys_within_one_file(rng: Random) -> list[Document]:
    return [
        [
            {
                "call": n + 1,
                "port": rng.choice(PORTS),
                "stops": [
                    {"quay": f"Q{k}", "minutes": rng.randrange(60)}
                    for k in range(rng.randrange(1, 4))
                ],
            }
            for n in range(12)
        ]
        for _ in range(4)
    ]


@case(
    """
tables:
  people:
    rows: "$"
    key: name
    fields:
      name: {at: "$.name"}
      age: {at: "$.age", type: integer}
  phones:
    within: people
    rows: "$.phones[*]"
    inherit: [name]
    fields:
      kind: {at: "$.kind"}
      number: {at: "$.number"}
"""
)
def a_record_in_each_document(rng: Random) -> list[Document]:
    return [
        {
            "name": f"N{n}",
            "age": rng.randrange(18, 80),
            "phones": [
                {
                    "kind": rng.choice(["home", "quay"]),
                    "number": f"+00 {rng.randrange(1000, 9999)}",
                }
                for _ in range(rng.randrange(1, 3))
            ],
        }
        for n in range(30)
    ]


@case(
    """
response:
  kinds:
    port: {when: "@.port"}
    berths: {when: "@.berths"}
tables:
  ports:
    kind: port
    rows: "$.port"
    fields:
      port_code: {at: "$.code"}
      name: {at: "$.name"}
      opened_on: {at: "$.opened_on", type: date}
      depth: {at: "$.depth", type: "decimal(18,2)"}
  berths:
    kind: berths
    rows: "$.berths[*]"
    fields:
      berth_id: {at: "$.id", type: integer}
      length: {at: "$.length", type: integer}
      covered: {at: "$.covered", type: boolean}
"""
)
def two_kinds_of_documents(rng: Random) -> list[Document]:
    ports = [
        {
            "port": {
                "code": f"P{n}",
                "name": rng.choice(PORTS),
                "opened_on": day(rng, n),
                "depth": f"{n % 9}.50",
            }
        }
        for n in range(12)
    ]
    berths = [
        {
            "berths": [
                {
                    "id": 100 * f + n,
                    "length": rng.randrange(20, 90),
                    "covered": n % 3 == 0,
                }
                for n in range(9)
            ]
        }
        for f in range(12)
    ]
    return [document for pair in zip(ports, berths, strict=True) for document in pair]


@case(
    """
tables:
  events:
    rows: "$.events[?@.kind == 'arrival']"
    fields:
      event_id: {at: "$.id", type: integer}
      at_quay: {at: "$.quay"}
      berth: {at: "$.berth", type: integer}
      at: {at: "$.at", type: timestamp}
  notices:
    rows: "$.events[?@.kind == 'notice']"
    fields:
      event_id: {at: "$.id", type: integer}
      text: {at: "$.text"}
      author: {at: "$.author"}
      at: {at: "$.at", type: timestamp}
"""
)
def sorts_told_by_a_member(rng: Random) -> list[Document]:
    def event(n: int) -> Document:
        common = {
            "id": n,
            "kind": rng.choice(["arrival", "notice"]),
            "at": moment(rng, n),
        }
        if common["kind"] == "arrival":
            return {**common, "quay": f"Q{n % 4}", "berth": n % 9}
        return {
            **common,
            "text": f"fog until {n}",
            "author": rng.choice(["harbour", "bridge"]),
        }

    return [{"events": [event(40 * file + n) for n in range(40)]} for file in range(2)]


@case(
    """
tables:
  gauges:
    rows: "$[*]"
    fields:
      gauge_id: {at: "$.id", type: integer}
      level: {at: "$.level", type: float}
      read_at: {at: "$.read_at", type: timestamp}
"""
)
def stray_elements(rng: Random) -> list[Document]:
    return [
        [
            *(
                {"id": 50 * file + n, "level": n / 7, "read_at": moment(rng, n)}
                for n in range(50)
            ),
            [4],
            5,
        ]
        for file in range(2)
    ]


@case(
    """
tables:
  members:
    rows: "$.members[*]"
    key: member_id
    fields:
      member_id: {at: "$.id"}
      token: {at: "$.token"}
      email: {at: "$.email"}
      joined: {at: "$.joined", type: date}
      tier: {at: "$.tier", type: tier}
enums:
  tier: {values: {gold: {}, silver: {}, crew: {}}}
"""
)
def secrets(rng: Random) -> list[Document]:
    return [
        {
            "members": [
                {
                    "id": f"M{60 * file + n:04}",
                    "token": "".join(rng.choice("0123456789abcdef") for _ in range(32)),
                    "email": f"m{n}@merrow.example",
                    "joined": day(rng, n),
                    "tier": rng.choice(["gold", "silver", "crew"]),
                }
                for n in range(60)
            ]
        }
        for file in range(2)
    ]


@case(
    """
tables:
  sailings:
    rows: "$.data[*]"
    key: sailing_id
    fields:
      sailing_id: {at: "$.id", type: integer}
      vessel: {at: "$.vessel"}
      departs: {at: "$.departs", type: timestamp}
      state: {at: "$.state", type: state}
enums:
  state: {values: {scheduled: {}, boarding: {}, departed: {}, arrived: {}, cancelled: {}}}
"""
)
def pages(rng: Random) -> list[Document]:
    return [
        {
            "page": page,
            "next_page": page + 1,
            "has_more": page < 4,
            "cursor": code(rng, 10),
            "offset": 30 * page,
            "data": [
                {
                    "id": 30 * page + n,
                    "vessel": rng.choice(VESSELS),
                    "departs": moment(rng, n),
                    "state": rng.choice(STATES),
                }
                for n in range(30)
            ],
        }
        for page in range(4)
    ]


# ---- shapes


@case(
    """
tables:
  runs:
    rows: "$.runs.*"
    key: run
    fields:
      run: {fact: name}
      first: {at: "$.first"}
      last: {at: "$.last"}
      seats: {at: "$.seats", type: integer}
"""
)
def a_map_with_plain_names(rng: Random) -> list[Document]:
    return [
        {
            "runs": {
                name: {
                    "first": "06:00",
                    "last": "22:30",
                    "seats": rng.randrange(40, 300),
                }
                for name in ["otter", "seal", "puffin", "gannet", "heron", "tern"]
            }
        }
    ]


@case(
    """
tables:
  support:
    rows: "$.support.*"
    spread: true
    fields:
      engine: {fact: name}
      since: {at: "$.since"}
      notes: {at: "$.notes"}
"""
)
def a_map_of_one_or_several(rng: Random) -> list[Document]:
    def one() -> Document:
        return {
            "since": str(rng.randrange(3, 60)),
            **({"notes": "behind a flag"} if rng.random() < 0.3 else {}),
        }

    names = ["otter", "seal", "puffin", "gannet", "heron", "tern", "skua", "auk"]
    return [
        {
            "support": {
                name: one() if n % 3 else [one(), one()] for n, name in enumerate(names)
            }
        }
    ]


@case(
    """
tables:
  answers:
    rows: "$.answer"
    spread: true
    key: answer_id
    fields:
      answer_id: {at: "$.id", type: integer}
      berth: {at: "$.berth"}
      depth: {at: "$.depth", type: integer}
"""
)
def nothing_beside_records(rng: Random) -> list[Document]:
    def one(n: int) -> Document:
        return {"id": n, "berth": f"B{n % 7}", "depth": rng.randrange(2, 9)}

    def answer(n: int) -> Document:
        return [one(n), [one(n), one(n + 500)], "", None, []][n % 5]

    return [{"answer": answer(n)} for n in range(40)]


@case(
    """
tables:
  vessels:
    rows: "$.vessels[*]"
    key: vessel_id
    fields:
      vessel_id: {at: "$.id"}
      name: {at: "$.name"}
      built: {at: "$.built", type: integer}
      crew: {at: "$.crew", type: integer}
      sister: {at: "$.sister"}
      renamed_from: {at: "$.renamed_from"}
      heritage: {at: "$.heritage", type: boolean}
"""
)
def optional_members(rng: Random) -> list[Document]:
    def vessel(n: int) -> Document:
        extra = {"sister": f"V{n - 1}", "renamed_from": "Old Tern", "heritage": True}
        return {
            "id": f"V{n}",
            "name": f"{rng.choice(VESSELS)} {n}",
            "built": rng.randrange(1950, 2030),
            "crew": rng.randrange(3, 20),
            **{name: value for name, value in extra.items() if rng.random() < 0.15},
        }

    return [
        {"vessels": [vessel(60 * file + n) for n in range(60)]} for file in range(2)
    ]


@case(
    """
tables:
  hourly:
    rows: {zip: {time: "$.hourly.time[*]", tide: "$.hourly.tide[*]", wind: "$.hourly.wind[*]"}}
    fields:
      time: {at: "$.time", type: datetime}
      tide: {at: "$.tide", type: float}
      wind: {at: "$.wind", type: float}
"""
)
def parallel_arrays(rng: Random) -> list[Document]:
    hours = 48
    return [
        {
            "place": rng.choice(PORTS),
            "hourly": {
                "time": [
                    f"2031-04-{1 + h // 24:02}T{h % 24:02}:00" for h in range(hours)
                ],
                "tide": [round(rng.uniform(0, 4), 2) for _ in range(hours)],
                "wind": [round(rng.uniform(0, 20), 1) for _ in range(hours)],
            },
        }
    ]


@case(
    """
tables:
  rows:
    rows: "$.rows[*]"
    header: "$.columns[*].name"
    fields:
      zone: {at: "$.zone"}
      adult: {at: "$.adult", type: "decimal(18,2)"}
      child: {at: "$.child", type: "decimal(18,2)"}
      valid_from: {at: "$.valid_from", type: date}
"""
)
def columns_named_by_records(rng: Random) -> list[Document]:
    names = ["zone", "adult", "child", "valid_from"]
    rows = [
        [
            rng.choice("NSEW"),
            round(rng.uniform(5, 30), 2),
            round(rng.uniform(2, 15), 2),
            day(rng, n),
        ]
        for n in range(30)
    ]
    return [
        {
            "columns": [{"name": name, "label": name.title()} for name in names],
            "rows": rows,
        }
    ]


@case(
    """
tables:
  counts:
    rows: "$.passengers.*"
    key: year
    fields:
      year: {fact: name, type: integer}
      adults: {at: "$.adults", type: integer}
      children: {at: "$.children", type: integer}
"""
)
def years_as_members(rng: Random) -> list[Document]:
    return [
        {
            "passengers": {
                str(year): {
                    "adults": rng.randrange(10_000),
                    "children": rng.randrange(4_000),
                }
                for year in range(2021, 2031)
            }
        }
    ]


@case(
    """
tables:
  regions:
    rows: "$.regions[*]"
    recurse: "$.parts[*]"
    key: region_id
    fields:
      region_id: {at: "$.id", type: integer}
      name: {at: "$.name"}
      above_region_id: {parent: region_id}
"""
)
def a_tree(rng: Random) -> list[Document]:
    numbers = iter(range(1, 1000))

    def region(depth: int) -> Document:
        parts = [region(depth - 1) for _ in range(rng.randrange(2, 4))] if depth else []
        return {"id": next(numbers), "name": rng.choice(PORTS), "parts": parts}

    return [{"regions": [region(2) for _ in range(4)]}]


@case(
    """
tables:
  features:
    rows: "$.features[*]"
    key: feature_id
    fields:
      feature_id: {at: "$.id"}
      name: {at: "$.properties.name"}
      kind: {at: "$.properties.kind", type: kind}
      longitude: {at: "$.geometry.coordinates[0]", type: float}
      latitude: {at: "$.geometry.coordinates[1]", type: float}
enums:
  kind: {values: {quay: {}, buoy: {}, light: {}}}
"""
)
def features(rng: Random) -> list[Document]:
    return [
        {
            "type": "FeatureCollection",
            "features": [
                {
                    "type": "Feature",
                    "id": f"F{n}",
                    "properties": {
                        "name": f"{rng.choice(PORTS)} {n}",
                        "kind": rng.choice(["quay", "buoy", "light"]),
                    },
                    "geometry": {
                        "type": "Point",
                        "coordinates": [round(rng.uniform(-7, -6), 5), 62.1 + n / 900],
                    },
                }
                for n in range(60)
            ],
        }
    ]


# ---- types


@case(
    """
tables:
  readings:
    rows: "$.readings[*]"
    fields:
      reading_id: {at: "$.id", type: integer}
      taken_at: {at: "$.taken_at", type: timestamp}
      seen: {at: "$.seen", type: timestamp}
      opened: {at: "$.opened", type: date}
      printed: {at: "$.printed", type: date}
      exact: {at: "$.exact", type: timestamp}
"""
)
def mixed_notations(rng: Random) -> list[Document]:
    return [
        {
            "readings": [
                {
                    "id": 50 * file + n,
                    "taken_at": 1932964927000 + n * 60_000
                    if n % 4 == 0
                    else moment(rng, n),
                    "seen": 1932964927 + n * 60,
                    "opened": f"{day(rng, n)}T00:00:00Z",
                    "printed": f"{['Jan', 'Feb', 'Mar'][n % 3]} {1 + n % 28:02} 2031",
                    "exact": f"2031-04-03T06:42:07.{rng.randrange(10**9):09}Z",
                }
                for n in range(50)
            ]
        }
        for file in range(2)
    ]


@case(
    """
tables:
  tills:
    rows: "$.tills[*]"
    key: till_id
    fields:
      till_id: {at: "$.id", type: integer}
      amount: {at: "$.amount", type: "decimal(18,2)"}
      total_price: {at: "$.total_price", type: "decimal(18,2)"}
      share: {at: "$.share", type: "decimal(18,2)"}
      is_open: {at: "$.is_open", type: boolean}
      zone: {at: "$.zone"}
      unit: {at: "$.unit"}
"""
)
def money_and_flags(rng: Random) -> list[Document]:
    return [
        {
            "tills": [
                {
                    "id": 50 * file + n,
                    "amount": rng.randrange(1, 900)
                    if n % 3
                    else rng.randrange(1, 900) / 4,
                    "total_price": f"kr {rng.randrange(1, 9)},{rng.randrange(100, 999)}.{rng.randrange(100):02}",
                    "share": f"{rng.randrange(100)}%",
                    "is_open": rng.randrange(2),
                    "zone": f"{rng.randrange(1, 20):03}",
                    "unit": f"org {rng.randrange(40)}",
                }
                for n in range(50)
            ]
        }
        for file in range(2)
    ]


@case(
    """
tables:
  services:
    rows: "$.Services.Service[*]"
    key: service_id
    fields:
      service_id: {at: "$.serviceId"}
      first: {at: "$.mooringServiceOutput.serviceDataHolder.first"}
      mode: {at: "$.mooringServiceOutput.serviceDataHolder.mode", type: mode}
      operator_name: {at: "$.operator.name"}
      departs: {at: "$.times.departs", type: timestamp}
enums:
  mode: {values: {foot: {}, car: {}, mixed: {}}}
"""
)
def wrappers_in_names(rng: Random) -> list[Document]:
    return [
        {
            "Services": {
                "Service": [
                    {
                        "serviceId": f"S{60 * file + n}",
                        "mooringServiceOutput": {
                            "serviceDataHolder": {
                                "first": rng.choice(PORTS),
                                "mode": rng.choice(["foot", "car", "mixed"]),
                            }
                        },
                        "operator": {
                            "name": rng.choice(["Merrow Lines", "Holm Boats"])
                        },
                        "times": {"departs": moment(rng, n)},
                    }
                    for n in range(60)
                ]
            }
        }
        for file in range(2)
    ]


@case(
    """
tables:
  vessels:
    rows: "$.vessels[*]"
    key: vessel_id
    fields:
      vessel_id: {at: "$.id"}
      name: {at: "$.name"}
  sailings:
    rows: "$.sailings[*]"
    key: sailing_id
    fields:
      sailing_id: {at: "$.id", type: integer}
      vessel_id: {at: "$.vessel_id"}
      seats_left: {at: "$.seats_left", type: integer}
      remarks: {at: "$.remarks"}
  fares:
    within: sailings
    rows: "$.fares[*]"
    inherit: [sailing_id]
    fields:
      zone: {at: "$.zone"}
      price: {at: "$.price", type: "decimal(18,2)"}
"""
)
def lists_that_refer_to_each_other(rng: Random) -> list[Document]:
    vessels = [{"id": f"V{n}", "name": name} for n, name in enumerate(VESSELS)]
    return [
        {
            "vessels": vessels,
            "sailings": [
                {
                    "id": 40 * file + n,
                    "vessel_id": rng.choice(vessels)["id"],
                    "seats_left": rng.randrange(200),
                    "remarks": rng.choice(
                        [None, "late boat", "no cars today", "bring oilskins"]
                    ),
                    "fares": [
                        {"zone": z, "price": f"{rng.randrange(5, 60)}.50"}
                        for z in "NSW"[: rng.randrange(1, 4)]
                    ],
                }
                for n in range(40)
            ],
        }
        for file in range(2)
    ]


@case(
    """
tables:
  log:
    rows: "$"
    key: entry_id
    fields:
      entry_id: {at: "$.id", type: integer}
      at: {at: "$.at", type: timestamp}
      level: {at: "$.level", type: level}
      bridge: {at: "$.who.bridge"}
      text: {at: "$.text"}
  tags:
    within: log
    rows: "$.tags[*]"
    inherit: [entry_id]
    fields:
      key: {at: "$.key"}
      value: {at: "$.value"}
enums:
  level: {values: {info: {}, warn: {}, alarm: {}}}
""",
    lines=True,
)
def lines_of_a_log(rng: Random) -> list[Document]:
    return [
        {
            "id": n,
            "at": moment(rng, n),
            "level": rng.choice(["info", "info", "warn", "alarm"]),
            "who": {"bridge": rng.choice(["north", "south"])},
            "text": f"tide {n} passed",
            "tags": [
                {"key": "wind", "value": str(rng.randrange(40))}
                for _ in range(rng.randrange(3))
            ],
        }
        for n in range(120)
    ]


# ---- whole services


@case(
    """
tables:
  berths:
    rows: "$.data[*]"
    key: berth_id
    fields:
      berth_id: {at: "$.id"}
      type: {at: "$.type"}
      name: {at: "$.attributes.name"}
      length_m: {at: "$.attributes.length_m", type: integer}
      opened_at: {at: "$.attributes.opened_at", type: timestamp}
      port_id: {at: "$.relationships.port.data.id"}
"""
)
def attributes_and_relationships(rng: Random) -> list[Document]:
    def berth(n: int) -> Document:
        return {
            "type": "berths",
            "id": str(n),
            "attributes": {
                "name": f"Berth {n}",
                "length_m": rng.randrange(20, 200),
                "opened_at": moment(rng, n),
            },
            "relationships": {
                "port": {"data": {"type": "ports", "id": str(rng.randrange(8))}}
            },
            "links": {"self": f"https://merrow.example/berths/{n}"},
        }

    return [
        {
            "data": [berth(30 * page + n) for n in range(30)],
            "links": {"next": f"/berths?page={page + 1}"},
            "meta": {"total": 90},
        }
        for page in range(3)
    ]


@case(
    """
tables:
  orders:
    rows: "$.value[*]"
    key: order_id
    fields:
      order_id: {at: "$.OrderID", type: integer}
      ordered_on: {at: "$.OrderDate", type: datetime}
      ship_name: {at: "$.ShipName"}
      freight: {at: "$.Freight", type: "decimal(18,2)"}
      shipped_on: {at: "$.ShippedDate", type: datetime}
  lines:
    within: orders
    rows: "$.Lines[*]"
    inherit: [order_id]
    fields:
      product: {at: "$.Product"}
      quantity: {at: "$.Quantity", type: integer}
      unit_price: {at: "$.UnitPrice", type: "decimal(18,2)"}
      discount: {at: "$.Discount", type: float}
"""
)
def orders_with_lines(rng: Random) -> list[Document]:
    def order(n: int) -> Document:
        return {
            "OrderID": 10_000 + n,
            "OrderDate": f"{day(rng, n)}T{rng.randrange(8, 20):02}:15:00",
            "ShipName": rng.choice(VESSELS),
            "Freight": f"{rng.randrange(4, 400)}.{rng.randrange(100):02}",
            "ShippedDate": None if n % 5 == 0 else f"{day(rng, n + 2)}T09:00:00",
            "Lines": [
                {
                    "Product": f"rope {k}",
                    "Quantity": rng.randrange(1, 40),
                    "UnitPrice": "12.50",
                    "Discount": k / 20,
                }
                for k in range(rng.randrange(1, 4))
            ],
        }

    return [
        {
            "@odata.context": "https://merrow.example/$metadata#Orders",
            "value": [order(30 * page + n) for n in range(30)],
        }
        for page in range(2)
    ]


@case(
    """
tables:
  candles:
    rows: "$[*]"
    fields:
      at: {at: "$[0]", type: timestamp}
      open: {at: "$[1]", type: "decimal(18,2)"}
      high: {at: "$[2]", type: "decimal(18,2)"}
      trips: {at: "$[3]", type: integer}
"""
)
def rows_without_names(rng: Random) -> list[Document]:
    return [
        [
            [
                1932964927000 + 60_000 * (80 * file + n),
                f"{rng.randrange(90)}.25",
                f"{rng.randrange(90)}.50",
                rng.randrange(500),
            ]
            for n in range(80)
        ]
        for file in range(2)
    ]


@case(
    """
tables:
  days:
    rows: '$["Daily tides"].*'
    key: date
    fields:
      date: {fact: name, type: date}
      high: {at: "$['1. high']", type: "decimal(18,2)"}
      low: {at: "$['2. low']", type: "decimal(18,2)"}
      count: {at: "$['3. count']", type: integer}
"""
)
def numbered_members_by_day(rng: Random) -> list[Document]:
    return [
        {
            "Meta": {"1. Information": "tides", "2. Port": "Holm"},
            "Daily tides": {
                day(rng, n): {
                    "1. high": f"{rng.randrange(2, 5)}.{rng.randrange(10, 99)}",
                    "2. low": f"0.{rng.randrange(10, 99)}",
                    "3. count": str(rng.randrange(2, 9)),
                }
                for n in range(60)
            },
        }
    ]


@case(
    """
response:
  fields:
    place: {at: "$.name"}
tables:
  weather:
    rows: "$"
    fields:
      name: {at: "$.name"}
      lon: {at: "$.coord.lon", type: float}
      lat: {at: "$.coord.lat", type: float}
      temp: {at: "$.main.temp", type: float}
      pressure: {at: "$.main.pressure", type: integer}
      wind_speed: {at: "$.wind.speed", type: float}
      at: {at: "$.dt", type: timestamp}
      id: {at: "$.id", type: integer}
"""
)
def one_reading_in_each_document(rng: Random) -> list[Document]:
    return [
        {
            "coord": {"lon": -6.5 + n / 90, "lat": 62.0 + n / 80},
            "weather": [
                {"id": 800 + n % 3, "main": "Clear", "description": "clear sky"}
            ],
            "main": {
                "temp": round(rng.uniform(-4, 20), 2),
                "pressure": rng.randrange(980, 1040),
            },
            "wind": {"speed": round(rng.uniform(0, 20), 1)},
            "dt": 1932964927 + 3600 * n,
            "id": 2_600_000 + n,
            "name": f"{PORTS[n % 8]} {n}",
        }
        for n in range(12)
    ]


@case(
    """
tables:
  tides:
    rows: "$.rows[*]"
    header: first
    fields:
      port: {at: "$.port"}
      day: {at: "$.day", type: date}
      height: {at: "$.height", type: float}
      code: {at: "$.code"}
"""
)
def a_header_row(rng: Random) -> list[Document]:
    rows = [
        [rng.choice(PORTS), day(rng, n), round(rng.uniform(0, 5), 2), f"{n % 60:03}"]
        for n in range(40)
    ]
    return [
        {
            "generated": "2031-04-01T04:00:00Z",
            "rows": [["port", "day", "height", "code"], *rows],
        }
    ]


@case(
    """
tables:
  bookings:
    rows: "$.bookings[*]"
    key: ref
    fields:
      ref: {at: "$.ref"}
      price: {at: "$.price", type: "decimal(18,2)"}
      balance: {at: "$.balance", type: "decimal(18,2)"}
      paid: {at: "$.paid", type: boolean}
      made: {at: "$.made", type: timestamp}
      people: {at: "$.people", type: integer}
      weight: {at: "$.weight", type: "decimal(18,2)"}
"""
)
def continental_numbers(rng: Random) -> list[Document]:
    def booking(n: int) -> Document:
        return {
            "ref": f"BK-{n:05}",
            "price": f"{rng.randrange(1, 9)}.{rng.randrange(100, 999)},{rng.randrange(10, 99)} €",
            "balance": f"({rng.randrange(10, 99)},50)"
            if n % 4 == 0
            else f"{rng.randrange(10, 99)},50",
            "paid": rng.choice(["Yes", "No"]),
            "made": str(1932964927 + 60 * n),
            "people": f"{rng.randrange(1, 9)}",
            "weight": f"{rng.randrange(1, 90)},5 kg",
        }

    return [
        {"bookings": [booking(50 * file + n) for n in range(50)]} for file in range(2)
    ]


@case(
    """
tables:
  ports:
    rows: "$.ports[*]"
    key: port_code
    fields:
      port_code: {at: "$.code"}
      name: {at: "$.name"}
      facilities: {at: "$.facilities[*]", take: all, type: list(text)}
      depths: {at: "$.depths[*]", take: all, type: list(float)}
  ramps:
    within: ports
    rows: "$.ramps[*]"
    inherit: [port_code]
    fields:
      no: {at: "$.no", type: integer}
      kind: {at: "$.kind", type: kind}
  works:
    within: ramps
    rows: "$.works[*]"
    inherit: [port_code]
    fields:
      from: {at: "$.from", type: date}
      to: {at: "$.to", type: date}
      note: {at: "$.note"}
enums:
  kind: {values: {fixed: {}, floating: {}, linkspan: {}}}
"""
)
def three_levels(rng: Random) -> list[Document]:
    def ramp(n: int) -> Document:
        works = [
            {"from": day(rng, k), "to": day(rng, k + 3), "note": f"repair {k}"}
            for k in range(rng.randrange(3))
        ]
        return {
            "no": n + 1,
            "kind": rng.choice(["fixed", "floating", "linkspan"]),
            "works": works,
        }

    def port(n: int) -> Document:
        return {
            "code": f"P{n:02}",
            "name": f"{PORTS[n % 8]} {n}",
            "facilities": rng.sample(
                ["cafe", "shelter", "crane", "fuel"], rng.randrange(4)
            ),
            "depths": [
                round(rng.uniform(2, 12), 4) for _ in range(rng.randrange(1, 4))
            ],
            "ramps": [ramp(k) for k in range(rng.randrange(1, 4))],
        }

    return [{"ports": [port(20 * file + n) for n in range(20)]} for file in range(2)]


@case(
    """
response:
  embedded: ["$.payload"]
tables:
  messages:
    rows: "$"
    fields:
      message_id: {at: "$.id"}
      sent: {at: "$.sent", type: timestamp}
      vessel: {at: "$.payload.vessel"}
      speed: {at: "$.payload.speed", type: float}
""",
    lines=True,
)
def json_in_texts(rng: Random) -> list[Document]:
    return [
        {
            "id": f"m-{n:06}",
            "sent": moment(rng, n),
            "payload": json.dumps(
                {"vessel": rng.choice(VESSELS), "speed": round(rng.uniform(0, 18), 4)}
            ),
        }
        for n in range(60)
    ]


@case(
    """
tables:
  quays:
    rows: "$..quays[*]"
    fields:
      name: {at: "$.name"}
      depth: {at: "$.depth", type: integer}
"""
)
def names_at_irregular_depth(rng: Random) -> list[Document]:
    def quays() -> Document:
        return {
            "quays": [
                {"name": f"Q{rng.randrange(99)}", "depth": rng.randrange(2, 9)}
                for _ in range(3)
            ]
        }

    return [
        {
            "zones": {
                "Otter": quays(),
                "Inner": {
                    "Holm": quays(),
                    "Vess": {"North": quays(), "South": quays()},
                },
            }
        }
    ]


@case(
    """
tables:
  fares:
    rows: "$.fares.*.*"
    fields:
      amount: {at: "$.amount", type: "decimal(18,2)"}
      currency: {at: "$.currency"}
      class: {fact: name}
"""
)
def maps_in_maps(rng: Random) -> list[Document]:
    def fare() -> Document:
        return {"amount": f"{rng.randrange(4, 80)}.50", "currency": "MKR"}

    routes = ["OTV-HOL", "HOL-VES", "VES-SKR", "SKR-OTV", "OTV-VES", "HOL-SKR"]
    return [
        {
            "fares": {
                route: {kind: fare() for kind in ("adult", "child", "car")}
                for route in routes
            }
        }
    ]


@case(
    """
tables:
  positions:
    rows: "$.vessels[*]"
    fields:
      mmsi: {at: "$.mmsi"}
      lat: {at: "$.pos.lat", type: float}
      lon: {at: "$.pos.lon", type: float}
      course: {at: "$.course", type: float}
      heading: {at: "$.heading", type: integer}
      eta: {at: "$.eta", type: datetime}
      dest: {at: "$.dest"}
      updated: {at: "$.updated", type: timestamp}
"""
)
def positions(rng: Random) -> list[Document]:
    def vessel(n: int) -> Document:
        return {
            "mmsi": f"2310{n % 90:05}",
            "pos": {"lat": f"{62 + n / 991:.5f}", "lon": f"{-6 - n / 977:.5f}"},
            "course": round(rng.uniform(0, 360), 1),
            "heading": rng.choice([511, rng.randrange(360)]),
            "eta": f"{day(rng, n)} {rng.randrange(24):02}:00",
            "dest": rng.choice([*PORTS, ""]),
            "updated": 1932964927 + n,
        }

    return [
        {"vessels": [vessel(60 * file + n) for n in range(60)], "count": 60}
        for file in range(3)
    ]


@case(
    """
response:
  kinds:
    data: {when: "@.sailings"}
    error: {when: "@.error"}
tables:
  sailings:
    kind: data
    rows: "$.sailings[*]"
    key: sailing_id
    fields:
      sailing_id: {at: "$.id", type: integer}
      vessel: {at: "$.vessel"}
      departs: {at: "$.departs", type: timestamp}
"""
)
def errors_among_the_answers(rng: Random) -> list[Document]:
    def answer(file: int) -> Document:
        if file % 5 == 4:
            return {"error": {"code": 503, "message": "busy"}}
        return {
            "sailings": [
                {
                    "id": 20 * file + n,
                    "vessel": rng.choice(VESSELS),
                    "departs": moment(rng, n),
                }
                for n in range(20)
            ]
        }

    return [answer(file) for file in range(10)]


@case(
    """
tables:
  notices:
    rows: "$.channel.item[*]"
    fields:
      title: {at: "$.title"}
      guid: {at: "$.guid"}
      published: {at: "$.pubDate", type: timestamp}
      categories: {at: "$.category", type: list(text), split: ";"}
      urgent: {at: "$.urgent", type: boolean}
"""
)
def notices_as_in_a_news_feed(rng: Random) -> list[Document]:
    def item(n: int) -> Document:
        return {
            "title": f"No boat at {rng.choice(PORTS)} on {n}",
            "guid": f"00000000-0000-4000-8000-{n:012}",
            "pubDate": f"{dt.date(2031, 4, 1 + n % 28):%a, %d %b %Y} 0{n % 9}:30:00 GMT",
            "category": ";".join(
                rng.sample(["fog", "wind", "swell", "crew"], rng.randrange(1, 4))
            ),
            "urgent": rng.choice(["true", "false"]),
        }

    return [
        {"channel": {"title": "Notices", "item": [item(25 * f + n) for n in range(25)]}}
        for f in range(2)
    ]


@case(
    """
tables:
  scores:
    rows: "$[*]"
    key: match_id
    fields:
      match_id: {at: "$.match.id", type: integer}
      home: {at: "$.match.home.team"}
      away: {at: "$.match.away.team"}
      home_points: {at: "$.match.home.points", type: integer}
      away_points: {at: "$.match.away.points", type: integer}
      played: {at: "$.match.played", type: date}
"""
)
def records_in_a_wrapper(rng: Random) -> list[Document]:
    def side() -> Document:
        return {
            "team": rng.choice(["Holm rowers", "Vess rowers", "Otter rowers"]),
            "points": rng.randrange(9),
        }

    return [
        [
            {
                "match": {
                    "id": 40 * file + n,
                    "home": side(),
                    "away": side(),
                    "played": f"{1 + n % 28:02}/04/2031",
                }
            }
            for n in range(40)
        ]
        for file in range(2)
    ]


@case(
    """
tables:
  crew:
    rows: "$.crew[*]"
    key: employee_no
    fields:
      employee_no: {at: "$.employeeNo"}
      rank: {at: "$.rank", type: rank}
      rate: {at: "$.rate", type: "decimal(18,2)"}
      started: {at: "$.started", type: date}
      left: {at: "$.left", type: date}
      shifts: {at: "$.shifts", type: integer}
      certificates: {at: "$.certificates", type: list(text), split: "|"}
enums:
  rank: {values: {mate: {}, master: {}, deckhand: {}, engineer: {}}}
"""
)
def nulls_and_placeholders(rng: Random) -> list[Document]:
    def person(n: int) -> Document:
        return {
            "employeeNo": f"{n:05}",
            "rank": rng.choice(["mate", "master", "deckhand", "engineer"]),
            "rate": rng.choice([f"{rng.randrange(9, 30)}.75", "n/a"]),
            "started": day(rng, n),
            "left": rng.choice([None, "", day(rng, n)]),
            "shifts": rng.choice([rng.randrange(200), None]),
            "certificates": rng.choice(["stcw|gmdss", "gmdss", "stcw|pilot|gmdss"]),
        }

    return [{"crew": [person(60 * file + n) for n in range(60)]} for file in range(2)]


@case(
    """
tables:
  points:
    rows: "$.series[*].points[*]"
    fields:
      at: {at: "$.at", type: timestamp}
      value: {at: "$.value", type: float}
  series:
    rows: "$.series[*]"
    fields:
      gauge: {at: "$.gauge"}
      unit: {at: "$.unit"}
"""
)
def a_list_around_each_series(rng: Random) -> list[Document]:
    def series(n: int) -> Document:
        points = [
            {"at": moment(rng, k), "value": round(rng.uniform(0, 5), 4)}
            for k in range(20)
        ]
        return {"gauge": f"G{n}", "unit": "m", "points": points}

    return [{"series": [series(n) for n in range(6)], "version": "2.1", "took": 14}]


@case(
    """
tables:
  stops:
    rows: "$.stops[*]"
    key: stop_id
    fields:
      stop_id: {at: "$.id"}
      local_time: {at: "$.local_time", type: datetime}
      timezone: {at: "$.timezone"}
      accessible: {at: "$.accessible", type: boolean}
      lines: {at: "$.lines[*]", take: all, type: list(text)}
      distance_km: {at: "$.distance_km", type: float}
      passengers: {at: "$.passengers", type: integer}
"""
)
def local_times_and_a_zone(rng: Random) -> list[Document]:
    def stop(n: int) -> Document:
        return {
            "id": f"ST-{n:04}",
            "local_time": f"{day(rng, n)}T{rng.randrange(24):02}:30:00",
            "timezone": "Atlantic/Faroe",
            "accessible": rng.random() < 0.5,
            "lines": rng.sample(["1", "2", "7A"], rng.randrange(1, 3)),
            "distance_km": round(rng.uniform(0, 40), 3),
            "passengers": rng.randrange(400) if n % 9 else None,
        }

    return [{"stops": [stop(40 * file + n) for n in range(40)]} for file in range(2)]


@case(
    """
tables:
  tickets:
    rows: "$.result.list.tickets[*]"
    key: ticket_number
    fields:
      ticket_number: {at: "$.ticketNumber"}
      sold_at: {at: "$.soldAt", type: timestamp}
      channel: {at: "$.channel", type: channel}
      total: {at: "$.price.total", type: "decimal(18,2)"}
      currency: {at: "$.price.currency"}
      refundable: {at: "$.flags.refundable", type: boolean}
enums:
  channel: {values: {web: {}, app: {}, quay: {}, agent: {}}}
"""
)
def tickets_within_wrappers(rng: Random) -> list[Document]:
    def ticket(n: int) -> Document:
        return {
            "ticketNumber": f"{7_000_000 + n}-{n % 7}",
            "soldAt": f"{day(rng, n)} 08:{n % 60:02}:11 UTC",
            "channel": rng.choice(["web", "app", "quay", "agent"]),
            "price": {"total": rng.randrange(900) / 4, "currency": "MKR"},
            "flags": {"refundable": rng.choice(["Y", "N"])},
        }

    return [
        {
            "status": "ok",
            "result": {
                "count": 40,
                "list": {"tickets": [ticket(40 * f + n) for n in range(40)]},
            },
        }
        for f in range(3)
    ]


@case(
    """
tables:
  alerts:
    rows: "$.alerts.*[*]"
    fields:
      line: {fact: name}
"""
)
def words_by_line(rng: Random) -> list[Document]:
    lines = ["red", "blue", "green", "north loop", "south loop", "island"]
    return [
        {
            "alerts": {
                line: [{"text": f"late {k}", "minutes": k} for k in range(3)]
                for line in lines
            }
        }
    ]
