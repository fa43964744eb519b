"""Write the sample feed: a few days of the ferry network of the Merrow Isles, with a believable
share of dirt.

    python scripts/make_sample.py

The seed is fixed: the same files come out every time. They are committed; later versions of the
sample grow from here.
"""

from __future__ import annotations

import datetime as dt
import json
import random
from pathlib import Path
from typing import Any

FEED = Path(__file__).parent.parent / "src" / "mukret" / "sample" / "feed"
FIRST_DAY = dt.date(2031, 3, 28)  # the clock goes forward in the night to the 30th
DAYS = 4
ZONE_HOURS = {True: 1, False: 0}

PORTS = [
    ("OTV", "Otterwick", "Otterwick Havn", "57.2041", "-8.1203", "1904-05-02"),
    ("SKR", "Skerry Roads", None, "57.3310", "-8.4417", "1911-09-18"),
    ("BRA", "Brannock", "Brannock by the Sands", "57.0188", "-8.0052", "1898-06-30"),
    ("LUN", "Lunaness", None, "57.4126", "-7.9874", "n/a"),
    ("TOL", "Tolmar", "Tolmarvik", "56.9573", "-8.2968", "1952-04-11"),
]
MASTERS = ["E. Quillan", "M. Thorsby", "A. Penhallow", "R. Skaife", "I. Underdale"]
VESSELS = [
    ("MV-PETREL", "Petrel", 1998, 42, 310),
    ("MV-DUNLIN", "Dunlin", 2007, 24, 180),
    ("MV-EIDER", "Eider", 2019, 60, 420),
    ("MV-TERN", "Tern", 2024, 12, 96),
]
STATES = [
    "Departed",
    "DEP",
    "departed ",
    "boarding",
    "BRD",
    "Cancelled",
    "CXL",
    "delayed",
    "DLY",
]
NOTICES = [
    "No hot meals on this crossing",
    "Swell expected; lash loads",
    "Bring exact fare: card reader out",
    "Dogs on the upper deck only, please",
    'Captain says "bring a coat"',
]
ZONES: dict[str, Any] = {
    "north": {
        "light": "Skerry Light",
        "inner": {"sound": {"inner": {"narrows": {"light": None}}}, "roads": {}},
    },
    "south": {
        "light": "Tolmar Head",
        "inner": {
            "sands": {"closed": True, "inner": {"shoal": {"light": "Bell Buoy"}}}
        },
    },
}
"""Zones of the sea by their names, those within them below; the same every day."""
ENTRIES = [
    "Relieved the night watch",
    "Fog over the sound",
    "Crane out of order",
    "Lamp changed on berth 2",
]
NAMES = [
    "Ashdown",
    "Birk",
    "Carrow",
    "Dunmore",
    "Ellery",
    "Farrant",
    "Gale",
    "Harrow",
    "Isbister",
    "Jarvie",
]


class Maker:
    """Makes one response a day, the dirt at fixed places."""

    def __init__(self) -> None:
        self.rng = random.Random(20310328)
        self.later = random.Random(
            20310401
        )  # for what was added later, so that all else stays as it was
        self.sailing = 1000
        self.booking = 50000

    def response(self, day: dt.date, number: int) -> dict[str, Any]:
        ports = [self.port(row, day, index) for index, row in enumerate(PORTS)]
        self.spoil(ports, number)
        return {
            "meta": {
                "request_id": f"r-{day:%m%d}-{self.rng.randrange(10**6):06d}",
                "generated": f"{day}T04:10:{self.rng.randrange(60):02d}+00:00",
                "source": "timetable",
                "next_cursor": None,
            },
            "network": {"name": "Merrow Isles Ferries", "ports": ports},
            "vessels": [
                {
                    "id": key,
                    "name": name,
                    "built": built,
                    "capacity": {"cars": cars, "people": str(people)},
                }
                for key, name, built, cars, people in VESSELS
            ],
            "zones": ZONES,
            "log": self.log(day, number),
            "bulletin": json.dumps(
                {
                    "wind": {
                        "from": self.later.choice(["NW", "W", "SW"]),
                        "knots": 8 + 7 * number,
                    }
                }
            ),
        }

    def log(self, day: dt.date, number: int) -> list[list[Any]]:
        """Rows under a header; on one day a row is longer than it."""
        rows = [
            [f"{day}T{hour:02d}:00:00Z", self.later.choice(PORTS)[0], entry]
            for hour, entry in zip(
                (6, 14), ENTRIES[number:] + ENTRIES[:number], strict=False
            )
        ]
        return [
            ["at", "port", "entry"],
            *rows,
            *([[*rows[0], "see above"]] if number == 2 else []),
        ]

    def port(
        self, row: tuple[str, str, str | None, str, str, str], day: dt.date, index: int
    ) -> dict[str, Any]:
        code, name, local, latitude, longitude, opened = row
        return {
            "code": code,
            "name": {"en": name, "local": local} if local else {"en": name},
            "location": {"lat": latitude, "lon": longitude},
            "opened": opened,
            "contacts": [
                {"role": "harbour master", "name": MASTERS[index]},
                {"role": "duty desk", "name": None},
            ],
            "berths": [
                {
                    "no": number + 1,
                    "depth_m": f"{self.rng.uniform(3, 9):.1f}",
                    "lit": self.rng.choice(["yes", "no", "Y"]),
                }
                for number in range(2 + index % 2)
            ],
            "tide": self.tide(day),
            "sailings": [
                self.make_sailing(index, day, hour) for hour in self.hours(index)
            ],
        }

    def hours(self, index: int) -> list[int]:
        return sorted(self.rng.sample(range(6, 21), 5 + index % 3))

    def tide(self, day: dt.date) -> dict[str, Any]:
        times = [
            f"{day}T{hour:02d}:{self.rng.randrange(60):02d}:00Z"
            for hour in (2, 8, 14, 20)
        ]
        return {
            "times": times,
            "heights": [f"{self.rng.uniform(0.3, 4.8):.2f}" for _ in times],
        }

    def make_sailing(self, index: int, day: dt.date, hour: int) -> dict[str, Any]:
        self.sailing += 1
        offset = ZONE_HOURS[day >= dt.date(2031, 3, 30)]
        start = dt.datetime(
            day.year, day.month, day.day, hour, self.rng.choice([0, 15, 30, 45])
        )
        end = start + dt.timedelta(minutes=self.rng.randrange(35, 190, 5))
        vessel = self.rng.choice(VESSELS)
        adult = self.rng.randrange(9_000, 220_000)
        sailing: dict[str, Any] = {
            "id": str(self.sailing),
            "to": PORTS[(index + self.rng.randrange(1, len(PORTS))) % len(PORTS)][0],
            "vessel": vessel[0],
            "state": self.rng.choice(STATES),
            "departs": start.isoformat(),  # local time, as painted on the quay
            "arrives": f"{end.isoformat()}+0{offset}:00",
            "updated": int((start - dt.datetime(1970, 1, 1)).total_seconds() * 1000)
            - self.rng.randrange(10**6),
            "fares": {
                "adult": f"kr {adult / 100:,.2f}",
                "child": f"kr {adult / 200:,.2f}",
                **({"car": f"kr {adult * 4 / 100:,.2f}"} if vessel[3] > 20 else {}),
            },
            "decks": [
                {
                    "deck": name,
                    "cars": self.rng.randrange(0, vessel[3]),
                    "load": f"{self.rng.randrange(101)}%",
                }
                for name in (["car", "upper"] if vessel[3] > 20 else ["open"])
            ],
            "notices": self.rng.sample(NOTICES, self.rng.choice([0, 0, 1, 2])),
            "bookings": [
                self.make_booking(start) for _ in range(self.rng.randrange(1, 4))
            ],
        }
        return sailing

    def make_booking(self, start: dt.datetime) -> dict[str, Any]:
        self.booking += 1
        seats = self.rng.randrange(1, 6)
        made = start - dt.timedelta(minutes=self.rng.randrange(60, 60 * 24 * 20))
        return {
            "ref": f"B{self.booking:07d}",
            "name": self.rng.choice(NAMES),
            "seats": str(seats),
            "amount": f"{seats * self.rng.randrange(5_000, 90_000) / 100:,.2f}",
            "paid": self.rng.choice(["yes", "yes", "no", True]),
            "made": int((made - dt.datetime(1970, 1, 1)).total_seconds() * 1000),
        }

    def spoil(self, ports: list[dict[str, Any]], number: int) -> None:
        """The dirt that real services send, a little of each kind."""
        if number == 0:
            ports[0]["sailings"][2]["fares"]["adult"] = "ask crew"
            ports[1]["sailings"][1]["state"] = "adrift"
            ports[3]["sailings"][0]["bookings"][0]["amount"] = ""
        elif number == 1:
            ports[2]["sailings"][3]["arrives"] = "2031-02-30T11:40:00+00:00"
            del ports[0]["sailings"][1]["id"]
            ports[4]["sailings"][0]["state"] = "DEP"
            ports[4]["sailings"].append(dict(ports[4]["sailings"][0]))
        elif number == 2:
            ports[1]["berths"] = ports[1]["berths"][
                0
            ]  # one object instead of a list of one
            ports[3]["sailings"][2]["decks"][0]["load"] = "full"
            ports[2]["sailings"][0]["bookings"][0]["seats"] = "two"
            ports[0]["sailings"][0]["departs"] = (
                "2031-03-30T01:15:00"  # the clock jumped over this one
            )
        else:
            ports[4]["opened"] = "11 April 1952"
            ports[1]["sailings"][0]["notices"] = []
            ports[2]["sailings"][1]["vessel"] = None


def main() -> None:
    FEED.mkdir(parents=True, exist_ok=True)
    maker = Maker()
    for number in range(DAYS):
        day = FIRST_DAY + dt.timedelta(days=number)
        text = json.dumps(maker.response(day, number), indent=1, ensure_ascii=False)
        (FEED / f"timetable-{day}.json").write_text(text + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
