"""Bay Swap from Python: find, keep, convert, carry and take back saves of console games.

    with bayswap.Home() as home:
        plan = home.carry("Lantern Skiff", "bench", "quay-tv")
        if not plan.refused:
            plan.run()

Everything is done by the library of the same name; this package adds no rules of its own. Documents are plain
dictionaries, as ``--json`` prints them; docs/schema has their shapes.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Callable, Dict, List, Mapping, Optional, Sequence, Union

from . import _native
from ._native import BaySwapError, Busy, Cancelled

__all__ = ["BaySwapError", "Busy", "Cancelled", "Card", "Converted", "Home", "Icon", "Outcome", "Plan", "version"]

Document = Dict[str, Any]
Bytes = Union[bytes, bytearray, memoryview]
#: Is called with {"event", "label", "done", "total"} while something long goes on. Returning False cancels it, between two
#: files or two saves; returning None or True goes on. What it raises cancels as well, and is raised by the call.
Progress = Callable[[Document], Optional[bool]]


def version() -> str:
    """The version of the library, e.g. "0.1.0"."""
    return _native.version()


@dataclass(frozen=True)
class Converted:
    """A converted save."""

    data: bytes
    from_layout: str
    to_layout: str
    notes: List[str]
    warnings: List[str]
    #: Bytes that are not blank and not in `data`, a sentence each: show them before the input is thrown away.
    cuts: List[str]


@dataclass(frozen=True)
class Icon:
    """A picture of a save: rows from the top, four bytes a pixel: red, green, blue, opacity."""

    width: int
    height: int
    rgba: bytes


@dataclass(frozen=True)
class Outcome:
    """What became of a plan that ran."""

    #: The entry of the logbook, the first one of many; None if nothing had to change.
    entry: Optional[int]
    #: The document of the plan; of `carry_all` with what became of each save.
    details: Document


class Plan:
    """A planned change, which has written nothing. Made by the methods of Home; usable while its home is open."""

    def __init__(self, home: "Home", handle: int) -> None:
        self._home = home
        self._handle: Optional[int] = handle

    def show(self) -> Document:
        """What it would do: steps, files, and the issues that stand in the way."""
        return _native.document(_native.text("bsw_plan_show", self._open()))

    @property
    def refused(self) -> bool:
        """Whether it must not run. The issues of show() say why; those that are "acceptable" a user may accept, by passing
        their codes as `accept` when the plan is made again."""
        return bool(self.show().get("refused", False))

    def run(self, progress: Optional[Progress] = None) -> Outcome:
        """Runs it, once. The old bytes are kept first, and nothing is written while another program has the files."""
        entry, document = _native.run_plan(self._open(), progress)
        return Outcome(entry or None, _native.document(document))

    def close(self) -> None:
        """Lets go of the places it has open. Done by the garbage collector as well."""
        if self._handle is not None:
            _native.library().bsw_plan_free(self._handle)
            self._handle = None

    def _open(self) -> int:
        if self._handle is None:
            raise ValueError("the plan is closed")
        return self._handle

    def __enter__(self) -> "Plan":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __del__(self) -> None:
        self.close()


class Home:
    """The home folder, open and locked: bays, names, and the logbook with every byte that was ever replaced.

    `folder`: None for the user's own. `lock_seconds`: how long another process that has it is waited for; then Busy is
    raised. Several threads may share one; their calls wait for each other.
    """

    def __init__(self, folder: Optional[str] = None, *, lock_seconds: int = 10) -> None:
        self._handle: Optional[int] = _native.handle(
            "bsw_home_open", _native.name(folder), _native.request({"lock_seconds": lock_seconds})
        )

    def saves(self, place: str, *, names_only: bool = False, progress: Optional[Progress] = None) -> List[Document]:
        """The saves of a place: a bay's name, a folder, a card image, an archive, a save, a URL. `names_only` opens no file
        that a path rule names, and leaves sizes, labels and health out."""
        document = _native.text(
            "bsw_list", self._open(), _native.name(place), _native.request({"names_only": names_only}), progress=progress
        )
        return _native.document(document)["saves"]

    def inspect(self, data: Bytes, name: str = "") -> Document:
        """What bytes are, with the reasons. `name` is the file's own, whose extension is weak evidence."""
        return _native.document(
            _native.text("bsw_inspect", self._open(), *_native.bytes_in(data), _native.request({"name": name}))
        )

    def convert(
        self, data: Bytes, to: str, *, from_layout: str = "", base: Optional[Bytes] = None, part: str = "", name: str = ""
    ) -> Converted:
        """Converts a battery save to the layout `to`. Without `from_layout` the bytes decide. `base` is the target's own
        file, of which is kept what the input has not. `part` chooses a file of a layout that is a set of them."""
        wanted = {"to": to, "from": from_layout, "part": part, "name": name}
        out, document = _native.convert(
            self._open(), data, base, _native.request({key: value for key, value in wanted.items() if value})
        )
        said = _native.document(document)
        return Converted(out, said["from"], said["to"], said["notes"], said["warnings"], said["cuts"])

    def plan(self, request: Mapping[str, Any], progress: Optional[Progress] = None) -> Plan:
        """Plans what the request says (docs/schema/requests.json); the methods below are its usual forms."""
        return Plan(
            self, _native.handle("bsw_plan_make", self._open(), _native.request(dict(request)), progress=progress)
        )

    def carry(self, what: str, from_place: str, to_place: str, **options: Any) -> Plan:
        """Plans to carry a save. `what`: a game's title or code, a path. Options: rom, account, slot, region, exact,
        accept (a list of codes)."""
        return self.plan({"do": "carry", "what": what, "from": from_place, "to": to_place, **options})

    def carry_all(self, from_place: str, to_place: str, progress: Optional[Progress] = None, **options: Any) -> Plan:
        """Plans to carry every save that differs; those that must not go are told, and stop no other."""
        return self.plan({"do": "carry-all", "from": from_place, "to": to_place, **options}, progress)

    def carry_file(self, file: str, to_place: str, **options: Any) -> Plan:
        """Plans to take over a save from a file, an archive or a folder. Option game: what the user calls it."""
        return self.plan({"do": "carry-file", "what": file, "to": to_place, **options})

    def undo(self, entry: Optional[int] = None, *, accept: Sequence[str] = ()) -> Plan:
        """Plans to take an entry of the logbook back; None: the newest one that can be, with its batch."""
        return self.plan({"do": "undo", "entry": entry, "accept": list(accept)})

    def restore(self, entry: int, *, before: bool = False, accept: Sequence[str] = ()) -> Plan:
        """Plans to bring back what an entry wrote, or what was there before it."""
        return self.plan({"do": "restore", "entry": entry, "before": before, "accept": list(accept)})

    def backup(self, place: str, what: str = "") -> Document:
        """Keeps the saves of a place in the logbook as they are: all of them, or those of a game."""
        return _native.document(
            _native.text("bsw_backup", self._open(), _native.name(place), _native.request({"what": what} if what else {}))
        )

    def logbook(self, what: str = "", *, limit: int = 20) -> List[Document]:
        """The entries of the logbook, the newest first; `what` keeps those about a game, a bay or a path."""
        return _native.document(
            _native.text("bsw_logbook", self._open(), _native.request({"what": what, "limit": limit}))
        )["entries"]

    def call(self, command: str, *arguments: str, progress: Optional[Progress] = None) -> Any:
        """Runs any command of the tool, e.g. ``home.call("sync", "--yes")``, and returns its document. The program must be
        installed, or named by the environment variable BAYSWAP_TOOL."""
        return _native.document(
            _native.text(
                "bsw_call", self._open(), _native.name(command), _native.request({"arguments": list(arguments)}), progress=progress
            )
        )

    def close(self) -> None:
        """Lets go of it. Plans made of it keep it locked until they are closed too."""
        if self._handle is not None:
            _native.library().bsw_home_close(self._handle)
            self._handle = None

    def _open(self) -> int:
        if self._handle is None:
            raise ValueError("the home folder is closed")
        return self._handle

    def __enter__(self) -> "Home":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __del__(self) -> None:
        if hasattr(self, "_handle"):
            self.close()


class Card:
    """A memory card in memory. Changes apply to this copy; write image() where it belongs."""

    def __init__(self, handle: int) -> None:
        self._handle: Optional[int] = handle

    @classmethod
    def open(cls, data: Bytes, slot: int = 0) -> "Card":
        """Opens an image of any kind. `slot`: which card of a file with several, from 1 on; 0: the first."""
        return cls(_native.handle("bsw_card_open", *_native.bytes_in(data), slot))

    @classmethod
    def make(cls, kind: str, **options: Any) -> "Card":
        """A freshly formatted card: "ps1", "gc", ... Options: blocks, image_bytes, form, formatted, japanese."""
        return cls(_native.handle("bsw_card_make", _native.request({"kind": kind, **options})))

    def show(self) -> Document:
        """Kind, form, room, problems and saves."""
        return _native.document(_native.text("bsw_card_list", self._open()))

    @property
    def saves(self) -> List[Document]:
        return self.show()["saves"]

    def icon(self, name: str, frame: int = 0) -> Icon:
        """A picture of a save, as the console shows it. Raises BaySwapError "not_found" if it has none of that number."""
        return Icon(*_native.icon(self._open(), name, frame))

    def take(self, name: str, form: Optional[str] = None) -> bytes:
        """A save as a file of its own. `form`: "single", "parcel" or "payload"; None: single, or parcel where there is none."""
        return _native.bytes_out("bsw_card_take", self._open(), _native.name(name), _native.name(form))

    def add(self, data: Bytes) -> None:
        """Adds a save from a file of its own."""
        _native.call("bsw_card_add", self._open(), *_native.bytes_in(data))

    def drop(self, name: str) -> None:
        """Deletes a save as the console does."""
        _native.call("bsw_card_drop", self._open(), _native.name(name))

    def undelete(self, name: str) -> None:
        """Brings a deleted save back."""
        _native.call("bsw_card_undelete", self._open(), _native.name(name))

    def image(self) -> bytes:
        """The whole image, with what was around it."""
        return _native.bytes_out("bsw_card_image", self._open())

    def close(self) -> None:
        if self._handle is not None:
            _native.library().bsw_card_free(self._handle)
            self._handle = None

    def _open(self) -> int:
        if self._handle is None:
            raise ValueError("the card is closed")
        return self._handle

    def __enter__(self) -> "Card":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __del__(self) -> None:
        if hasattr(self, "_handle"):
            self.close()
