#!/usr/bin/env python3
"""by_hand.py FEED.jsonl FOLDER: what feed.rules.yaml asks for, straight down, as an expert would write it for this one feed."""
import csv
import pathlib
import sys
from datetime import datetime, timezone
from decimal import Decimal

from orjson import loads

COLUMNS = {"parcels": "parcel receiver weight insured text", "events": "parcel kind happened_at port"}


def convert(path, parcels, events):
    moment, utc = datetime.fromisoformat, timezone.utc
    with open(path, "rb") as feed:
        for line in feed:
            for one in loads(line)["parcels"]:
                no = one["no"]
                attributes = {x["name"]: x["value"] for x in one["attributes"]}
                texts = {x["lang"]: x["text"] for x in one["texts"]}
                receiver = one.get("receiver")
                parcels([(
                    no, receiver["name"] if receiver else one.get("receiverName"), Decimal(attributes["weight"]),
                    "true" if attributes["insured"] == "yes" else "false", texts.get("en", texts.get("fo")),
                )])
                events(
                    (no, x["kind"], moment(x["at"]).astimezone(utc).isoformat(), x.get("port") or x.get("harbour"))
                    for x in one["events"] if x["kind"] != "note" and "void" not in x
                )


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
