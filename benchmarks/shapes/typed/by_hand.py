#!/usr/bin/env python3
"""by_hand.py FEED.jsonl FOLDER: what feed.rules.yaml asks for, straight down, as an expert would write it for this one feed."""
import csv
import pathlib
import re
import sys
from datetime import date, datetime, time, timezone
from decimal import Decimal
from zoneinfo import ZoneInfo

from orjson import loads

COLUMNS = (
    "ref state open local_at utc_at epoch_at day clock takes fare dues load draught cars people lat lon tags decks note vessel total crowded"
).split()
STATES = {"BRD": "boarding", "departed": "departed", "cancelled": "cancelled", "late": "delayed", "Cancelled": "cancelled"}
TAKES = re.compile(r"PT(\d+)H(\d+)M")


def rows(path):
    moment, utc, faroe, epoch = datetime.fromisoformat, timezone.utc, ZoneInfo("Atlantic/Faroe"), datetime.fromtimestamp
    seen = set()
    with open(path, "rb") as feed:
        for line in feed:
            for x in loads(line)["crossings"]:
                if x["ref"] in seen:
                    continue
                seen.add(x["ref"])
                hours, minutes = TAKES.fullmatch(x["takes"]).groups()
                takes = f"PT{hours}H{minutes}M" if minutes != "0" else f"PT{hours}H"
                fare, dues = Decimal(x["fare"].replace(",", "")), Decimal(x["dues"].replace(",", "."))
                load = int(x["load"][:-1]) / 100
                yield (
                    x["ref"], STATES[x["state"]], "true" if x["open"][0] in "yY" else "false",
                    moment(x["local"]).replace(tzinfo=faroe).astimezone(utc).isoformat(), moment(x["utc"]).isoformat(),
                    epoch(x["epoch"] / 1000, utc).isoformat(), date.fromisoformat(x["day"]), time.fromisoformat(x["clock"]),
                    takes, fare, dues, load, float(x["draught"][:-2]), int(x["cars"]), x["people"], x["lat"], x["lon"],
                    ";".join(x["tags"]), x["decks"], x["note"], x["vessel"], fare + dues, "true" if x["people"] > 400 and load > 0.5 else "false",
                )


def main():
    feed, folder = sys.argv[1], pathlib.Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    with open(folder / "crossings.csv", "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(COLUMNS)
        writer.writerows(rows(feed))


if __name__ == "__main__":
    main()
