#!/usr/bin/env python3
"""Backs up every save of every bay, for a timer that runs at night. A bay whose stick is away is skipped.

nightly_backup.py [HOME]
"""
import sys

import bayswap


def main(folder: str = "") -> int:
    failed = 0
    with bayswap.Home(folder or None, lock_seconds=600) as home:
        for bay in home.call("bay list"):
            try:
                kept = home.backup(bay["name"])
            except bayswap.BaySwapError as error:
                print(f"{bay['name']}: {error}")
                failed += error.code != "not_found"  # the stick is away
                continue
            print(f"{bay['name']}: {kept['kept']} kept, {kept['same']} the same already, {kept['failed']} failed")
            failed += kept["failed"]
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:2]))
