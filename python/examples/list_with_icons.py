#!/usr/bin/env python3
"""Lists the saves of a memory card and writes the pictures that the console shows of them.

list_with_icons.py CARD FOLDER
"""
import pathlib
import struct
import sys
import zlib

import bayswap


def png(icon: bayswap.Icon) -> bytes:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    row = 4 * icon.width
    lines = b"".join(b"\0" + icon.rgba[at : at + row] for at in range(0, len(icon.rgba), row))
    head = struct.pack(">IIBBBBB", icon.width, icon.height, 8, 6, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(lines)) + chunk(b"IEND", b"")


def main(image: str, folder: str) -> None:
    out = pathlib.Path(folder)
    out.mkdir(parents=True, exist_ok=True)
    with bayswap.Card.open(pathlib.Path(image).read_bytes()) as card:
        for number, save in enumerate(card.saves):
            print(f"{save['title'] or save['name']:40} {save['blocks']:4} blocks  {save['state']}")
            if save["state"] != "good":
                continue
            try:
                (out / f"{number}.png").write_bytes(png(card.icon(save["name"])))
            except bayswap.BaySwapError as error:
                if error.code != "not_found":  # it has no picture
                    raise


if __name__ == "__main__":
    if len(sys.argv) != 3:
        sys.exit(__doc__)
    main(*sys.argv[1:])
