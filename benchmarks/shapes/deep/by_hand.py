#!/usr/bin/env python3
"""by_hand.py FEED.jsonl FOLDER: what feed.rules.yaml asks for, straight down, as an expert would write it for this one feed."""
import csv
import pathlib
import sys
from datetime import date, datetime, timezone
from decimal import Decimal

from orjson import loads

COLUMNS = {
    "buoys": "buoy name latitude longitude level sensor measured_at high_at high note",
    "visits": "buoy who visited_on",
}
CENT, TENTH = Decimal("0.01"), Decimal("0.1")


def convert(path, buoys, visits):
    moment, utc, day = datetime.fromisoformat, timezone.utc, date.fromisoformat
    with open(path, "rb") as feed:
        for line in feed:
            for one in loads(line)["answer"]["data"]["buoys"]["all"]:
                head, water = one["head"], one["water"]
                no = head["id"]["value"]
                point = (one["place"] or {}).get("point") or {}
                now = water["level"]["now"]
                last = now["last"] if now else None
                high = water["level"]["tide"]["next"]["high"]
                buoys([(
                    no, head["name"]["long"], point.get("lat"), point.get("lon"),
                    Decimal(str(last["value"])).quantize(CENT) if last else None, last["by"]["sensor"]["no"] if last else None,
                    moment(last["at"]).astimezone(utc).isoformat() if last else None,
                    moment(high["at"]).astimezone(utc).isoformat(), Decimal(high["height"]).quantize(TENTH), water["note"]["texts"]["en"],
                )])
                visits((no, x["who"]["name"]["last"], day(x["when"]["day"])) for x in one["crew"]["visits"]["done"])


def main():
    feed, folder = sys.argv[1], pathlib.Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    files = [open(folder / f"{table}.csv", "w", newline="", encoding="utf-8") for table in COLUMNS]
    writers = [csv.writer(file) for file in files]
    for writer, columns in zip(writers, COLUMNS.values()):
        writer.writerow(columns.split())
    convert(feed, *(writer.writerows for writer in writers))
    for file in files:
        file.close()


if __name__ == "__main__":
    main()
