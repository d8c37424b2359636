"""The C library, and how its calls end. Private."""

from __future__ import annotations

import ctypes
import json
import os
from typing import Any, Callable, List, Optional, Tuple

ABI = 1


class BaySwapError(Exception):
    """A call that failed. `code`: e.g. "not_found"; `hint`: what to do next; `remedy`: the same for a program, {"kind",
    "values"}."""

    def __init__(self, said: dict) -> None:
        super().__init__(said.get("message", "the call failed"))
        self.code: str = said.get("code", "internal")
        self.hint: str = said.get("hint", "")
        self.remedy: dict = said.get("remedy", {"kind": "none", "values": []})

    def __str__(self) -> str:
        text = super().__str__()
        return f"{text} ({self.hint})" if self.hint else text


class Cancelled(BaySwapError):
    """A callback stopped it. Every save is whole."""


class Busy(BaySwapError):
    """Another process has the home folder, or another program has the files."""


class _Bytes(ctypes.Structure):
    _fields_ = [("data", ctypes.POINTER(ctypes.c_uint8)), ("size", ctypes.c_size_t), ("owner", ctypes.c_void_p)]


_Event = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_char_p)
_P = ctypes.c_void_p
_S = ctypes.c_char_p
_Text = ctypes.POINTER(ctypes.c_char_p)
_Handle = ctypes.POINTER(ctypes.c_void_p)
_Out = ctypes.POINTER(_Bytes)
_U32 = ctypes.POINTER(ctypes.c_uint32)

_SIGNATURES = {
    "bsw_home_open": [_S, _S, _Handle],
    "bsw_list": [_P, _S, _S, _Event, _P, _Text],
    "bsw_inspect": [_P, _S, ctypes.c_size_t, _S, _Text],
    "bsw_convert": [_P, _S, ctypes.c_size_t, _S, ctypes.c_size_t, _S, _Out, _Text],
    "bsw_backup": [_P, _S, _S, _Text],
    "bsw_logbook": [_P, _S, _Text],
    "bsw_plan_make": [_P, _S, _Event, _P, _Handle],
    "bsw_plan_show": [_P, _Text],
    "bsw_plan_run": [_P, _Event, _P, ctypes.POINTER(ctypes.c_int64), _Text],
    "bsw_card_open": [_S, ctypes.c_size_t, ctypes.c_int, _Handle],
    "bsw_card_make": [_S, _Handle],
    "bsw_card_list": [_P, _Text],
    "bsw_card_icon": [_P, _S, ctypes.c_uint32, _U32, _U32, _Out],
    "bsw_card_take": [_P, _S, _S, _Out],
    "bsw_card_add": [_P, _S, ctypes.c_size_t],
    "bsw_card_drop": [_P, _S],
    "bsw_card_undelete": [_P, _S],
    "bsw_card_image": [_P, _Out],
    "bsw_call": [_P, _S, _S, _Event, _P, _Text],
}
_FREES = {
    "bsw_home_close": _P,
    "bsw_plan_free": _P,
    "bsw_card_free": _P,
    "bsw_text_free": _P,
    "bsw_bytes_free": _Out,
}

_loaded: Optional[ctypes.CDLL] = None


def library() -> ctypes.CDLL:
    """The library: what BAYSWAP_C_LIBRARY names, or libbayswap_c.so.1 where the system keeps libraries."""
    global _loaded
    if _loaded is None:
        loaded = ctypes.CDLL(os.environ.get("BAYSWAP_C_LIBRARY") or "libbayswap_c.so.1")
        loaded.bsw_abi.restype = ctypes.c_uint32
        if loaded.bsw_abi() != ABI:
            raise ImportError(f"libbayswap_c has ABI {loaded.bsw_abi()}, this package is for {ABI}: install both of one version")
        loaded.bsw_version.restype = ctypes.c_char_p
        loaded.bsw_error.restype = ctypes.c_char_p
        for function, arguments in _SIGNATURES.items():
            getattr(loaded, function).argtypes = arguments
            getattr(loaded, function).restype = ctypes.c_int
        for function, argument in _FREES.items():
            getattr(loaded, function).argtypes = [argument]
            getattr(loaded, function).restype = None
        _loaded = loaded
    return _loaded


def version() -> str:
    return library().bsw_version().decode()


def name(text: Optional[str]) -> Optional[bytes]:
    """Names of files can have any bytes, as Python keeps them."""
    if text is None:
        return None
    if "\0" in text:
        raise ValueError("a text has a zero byte in it")
    return os.fsencode(text)


# A byte of a name that is no UTF-8 is U+10FF00 plus itself in documents, and U+DC00 plus itself in Python.
_TO_PYTHON = {0x10FF00 + byte: 0xDC00 + byte for byte in range(0x80, 0x100)}
_FROM_PYTHON = {0xDC00 + byte: 0x10FF00 + byte for byte in range(0x80, 0x100)}


def request(wanted: dict) -> bytes:
    document = json.dumps({key: value for key, value in wanted.items() if value is not None}, ensure_ascii=False)
    return document.translate(_FROM_PYTHON).encode()


def document(text_of_it: str) -> Any:
    return json.loads(text_of_it.translate(_TO_PYTHON))


def bytes_in(data: Any) -> Tuple[bytes, int]:
    held = bytes(data)
    return held, len(held)


class _Told:
    """A callback for the time of one call, and what it raised."""

    def __init__(self, progress: Optional[Callable[[dict], Optional[bool]]]) -> None:
        self.raised: Optional[BaseException] = None
        self._progress = progress
        self.event = _Event(self._tell) if progress is not None else _Event()

    def _tell(self, _user: Any, text: bytes) -> int:
        try:
            return 0 if self._progress(document(text.decode())) is False else 1
        except BaseException as raised:  # ctypes would print and forget it
            self.raised = raised
            return 0


def _check(status: int, told: Optional[_Told] = None) -> None:
    if told is not None and told.raised is not None:
        raise told.raised
    if status == 0:
        return
    raise {100: Cancelled, 6: Busy}.get(status, BaySwapError)(document(library().bsw_error().decode(errors="replace")))


def call(function: str, *arguments: Any) -> None:
    _check(getattr(library(), function)(*arguments))


def text(function: str, *arguments: Any, progress: Any = None) -> str:
    out = ctypes.c_char_p()
    told = _Told(progress)
    wants = _Event in _SIGNATURES[function]
    status = getattr(library(), function)(*arguments, *((told.event, None) if wants else ()), ctypes.byref(out))
    try:
        _check(status, told)
        return out.value.decode(errors="replace")
    finally:
        library().bsw_text_free(ctypes.cast(out, ctypes.c_void_p))


def handle(function: str, *arguments: Any, progress: Any = None) -> int:
    out = ctypes.c_void_p()
    told = _Told(progress)
    wants = _Event in _SIGNATURES[function]
    status = getattr(library(), function)(*arguments, *((told.event, None) if wants else ()), ctypes.byref(out))
    _check(status, told)
    return out.value


def _taken(out: _Bytes) -> bytes:
    try:
        return ctypes.string_at(out.data, out.size) if out.size else b""
    finally:
        library().bsw_bytes_free(ctypes.byref(out))


def bytes_out(function: str, *arguments: Any) -> bytes:
    out = _Bytes()
    _check(getattr(library(), function)(*arguments, ctypes.byref(out)))
    return _taken(out)


def convert(home: int, data: Any, base: Any, wanted: bytes) -> Tuple[bytes, str]:
    out, said = _Bytes(), ctypes.c_char_p()
    base_bytes = (None, 0) if base is None else bytes_in(base)
    _check(
        library().bsw_convert(home, *bytes_in(data), *base_bytes, wanted, ctypes.byref(out), ctypes.byref(said))
    )
    try:
        return _taken(out), said.value.decode()
    finally:
        library().bsw_text_free(ctypes.cast(said, ctypes.c_void_p))


def run_plan(plan: int, progress: Any) -> Tuple[int, str]:
    entry, said = ctypes.c_int64(), ctypes.c_char_p()
    told = _Told(progress)
    status = library().bsw_plan_run(plan, told.event, None, ctypes.byref(entry), ctypes.byref(said))
    try:
        _check(status, told)
        return entry.value, said.value.decode(errors="replace")
    finally:
        library().bsw_text_free(ctypes.cast(said, ctypes.c_void_p))


def icon(card: int, save: str, frame: int) -> List[Any]:
    width, height, rgba = ctypes.c_uint32(), ctypes.c_uint32(), _Bytes()
    _check(
        library().bsw_card_icon(
            card, name(save), frame, ctypes.byref(width), ctypes.byref(height), ctypes.byref(rgba)
        )
    )
    return [width.value, height.value, _taken(rgba)]
