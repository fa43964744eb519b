"""The responses, made up with a seed, and the rules by hand. The rules were written first, out of the response alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from random import Random
from typing import Any

Document = Any
Made = Callable[[Random], list[Document]]


@dataclass(frozen=True)
class Case:
    """`documents` come one to a file, unless `lines`. `rules` are the tables (and response, enums, kinds) by hand."""

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


PORTS = ["Otterness", "Vesshaven", "Skerrywick", "Holm", "Inner Merrow", "Tarn Quay", "Ravnsund", "Ebbing"]
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
                    "tickets": ",".join(code(rng) for _ in range(rng.choice([1, 1, 2, 3]))),
                    "pets": ",".join(rng.sample(["car", "dog", "bicycle"], rng.randrange(1, 3))),
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
      runs: {at: "$.runs", type: runs}
      berth: {at: "$.berth", type: integer}
      fare: {at: "$.fare", type: "decimal(18,2)"}
enums:
  runs: {values: {y: {}, n: {}, partly: {}}}
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
                    "fare": f"{rng.randrange(4, 90)}.{rng.randrange(100):02}" if n != 17 else "ask",
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
                "stops": [{"quay": f"Q{k}", "minutes": rng.randrange(60)} for k in range(rng.randrange(1, 4))],
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
                {"kind": rng.choice(["home", "quay"]), "number": f"+00 {rng.randrange(1000, 9999)}"}
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
        {"port": {"code": f"P{n}", "name": rng.choice(PORTS), "opened_on": day(rng, n), "depth": f"{n % 9}.50"}}
        for n in range(12)
    ]
    berths = [
        {"berths": [{"id": 100 * f + n, "length": rng.randrange(20, 90), "covered": n % 3 == 0} for n in range(9)]}
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
        common = {"id": n, "kind": rng.choice(["arrival", "notice"]), "at": moment(rng, n)}
        if common["kind"] == "arrival":
            return {**common, "quay": f"Q{n % 4}", "berth": n % 9}
        return {**common, "text": f"fog until {n}", "author": rng.choice(["harbour", "bridge"])}

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
            *({"id": 50 * file + n, "level": n / 7, "read_at": moment(rng, n)} for n in range(50)),
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
      first: {at: "$.first", type: time}
      last: {at: "$.last", type: time}
      seats: {at: "$.seats", type: integer}
"""
)
def a_map_with_plain_names(rng: Random) -> list[Document]:
    return [
        {
            "runs": {
                name: {"first": "06:00", "last": "22:30", "seats": rng.randrange(40, 300)}
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
        return {"since": str(rng.randrange(3, 60)), **({"notes": "behind a flag"} if rng.random() < 0.3 else {})}

    names = ["otter", "seal", "puffin", "gannet", "heron", "tern", "skua", "auk"]
    return [{"support": {name: one() if n % 3 else [one(), one()] for n, name in enumerate(names)}}]


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

    return [{"vessels": [vessel(60 * file + n) for n in range(60)]} for file in range(2)]


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
                "time": [f"2031-04-{1 + h // 24:02}T{h % 24:02}:00" for h in range(hours)],
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
        [rng.choice("NSEW"), round(rng.uniform(5, 30), 2), round(rng.uniform(2, 15), 2), day(rng, n)] for n in range(30)
    ]
    return [{"columns": [{"name": name, "label": name.title()} for name in names], "rows": rows}]


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
                str(year): {"adults": rng.randrange(10_000), "children": rng.randrange(4_000)}
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
                    "properties": {"name": f"{rng.choice(PORTS)} {n}", "kind": rng.choice(["quay", "buoy", "light"])},
                    "geometry": {"type": "Point", "coordinates": [round(rng.uniform(-7, -6), 5), 62.1 + n / 900]},
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
                    "taken_at": 1932964927000 + n * 60_000 if n % 4 == 0 else moment(rng, n),
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
                    "amount": rng.randrange(1, 900) if n % 3 else rng.randrange(1, 900) / 4,
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
                        "operator": {"name": rng.choice(["Merrow Lines", "Holm Boats"])},
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
                    "remarks": rng.choice([None, "late boat", "no cars today", "bring oilskins"]),
                    "fares": [{"zone": z, "price": f"{rng.randrange(5, 60)}.50"} for z in "NSW"[: rng.randrange(1, 4)]],
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
      value: {at: "$.value", type: integer}
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
            "tags": [{"key": "wind", "value": str(rng.randrange(40))} for _ in range(rng.randrange(3))],
        }
        for n in range(120)
    ]
