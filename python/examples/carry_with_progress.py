#!/usr/bin/env python3
"""Carries every save that differs from one place to another, with a line that tells how far it is.

carry_with_progress.py FROM TO
"""
import sys

import bayswap


def tell(event: dict) -> bool:
    of = f" of {event['total']}" if event["total"] else ""
    print(f"\r{event['event']} {event['done']}{of}: {event['label'][:40]:40}", end="", file=sys.stderr, flush=True)
    return True  # False cancels


def main(source: str, target: str) -> None:
    with bayswap.Home() as home, home.carry_all(source, target, progress=tell) as plan:
        for save in plan.show()["saves"]:
            print(f"{save['outcome']:8} {save['save']}  {save['text']}")
        if input("\nCarry them? [y/N] ") != "y":
            return
        done = plan.run(progress=tell)
        print(f"\n{done.details['carried']} carried; home.undo() takes all of them back.")


if __name__ == "__main__":
    if len(sys.argv) != 3:
        sys.exit(__doc__)
    try:
        main(*sys.argv[1:])
    except bayswap.BaySwapError as error:
        sys.exit(f"\n{error}")
