"""The Python package against the real library, in demo worlds. BAYSWAP_C_LIBRARY, BAYSWAP_TOOL and BAYSWAP_FAILPOINT name
what was built."""

import json
import os
import pathlib
import signal
import subprocess
import sys
import threading

import pytest

import bayswap
from bayswap import _native

SKIFF = "saves/Lantern Skiff (Europe).srm"
EXAMPLES = pathlib.Path(bayswap.__file__).resolve().parent.parent / "examples"


@pytest.fixture
def world(tmp_path, monkeypatch):
    subprocess.run([os.environ["BAYSWAP_TOOL"], "demo", "--out", tmp_path / "world"], check=True, capture_output=True)
    monkeypatch.setenv("BAYSWAP_HOME", str(tmp_path / "world/home"))
    return tmp_path / "world"


def tree(place):
    return {path.relative_to(place): path.read_bytes() for path in place.rglob("*") if path.is_file()}


def test_a_carry_can_be_taken_back(world):
    before = tree(world / "quay-tv")
    with bayswap.Home() as home:
        with home.carry("Lantern Skiff", "bench", "quay-tv") as plan:
            assert not plan.refused
            assert tree(world / "quay-tv") == before, "a plan has written"
            done = plan.run()
        assert done.entry == home.logbook()[0]["id"]
        assert (world / "quay-tv" / SKIFF).read_bytes() != before[pathlib.Path(SKIFF)]
        # What it wrote is what a conversion gives.
        dump = (world / "bench/dumps/N99P.sra").read_bytes()
        wanted = home.convert(dump, "n64.combined", name="N99P.sra", base=before[pathlib.Path(SKIFF)])
        assert (world / "quay-tv" / SKIFF).read_bytes() == wanted.data
        assert home.carry("Lantern Skiff", "bench", "quay-tv").run().entry is None, "twice is once"
        home.undo().run()
    assert tree(world / "quay-tv") == before


def test_a_callback_cancels_between_two_saves(world):
    before = tree(world / "quay-tv")
    with bayswap.Home() as home:
        with pytest.raises(bayswap.Cancelled):
            home.saves("bench", progress=lambda event: False)
        with pytest.raises(ZeroDivisionError):
            home.saves("bench", progress=lambda event: 1 / 0)
        plan = home.carry_all("bench", "quay-tv")
        with pytest.raises(bayswap.Cancelled):
            plan.run(progress=lambda event: event["event"] != "writing")
        assert tree(world / "quay-tv") == before
        rows = plan.show()["saves"]
        assert {row["outcome"] for row in rows} == {"failed"} and all("cancelled" in row["text"] for row in rows)
        assert home.carry_all("bench", "quay-tv").run().details["carried"] == 3


def test_errors_say_what_to_do(world):
    with bayswap.Home() as home:
        with pytest.raises(bayswap.BaySwapError) as caught:
            home.carry("No Such Game", "bench", "quay-tv")
        assert caught.value.code == "not_found" and caught.value.remedy == {"kind": "scan_bay", "values": ["bench"]}
        with pytest.raises(bayswap.BaySwapError) as caught:
            home.carry("Lantern Skiff", "bench", "quay-tv", colour="blue")
        assert caught.value.code == "bad_usage" and "colour" in str(caught.value)
        with pytest.raises(bayswap.Busy):
            bayswap.Home(lock_seconds=0)
        with pytest.raises(ValueError):
            home.saves("bench\0quay-tv")
    with pytest.raises(ValueError):
        home.logbook()


def test_a_refusal_is_shown_and_accepted(world):
    # Newer progress on the target's side.
    dump, save = world / "bench/dumps/N99P.sra", world / "quay-tv" / SKIFF
    newer = dump.stat().st_mtime + 1000
    os.utime(save, (newer, newer))
    with bayswap.Home() as home:
        plan = home.carry("Lantern Skiff", "bench", "quay-tv")
        codes = [issue["code"] for issue in plan.show()["issues"] if issue["acceptable"]]
        assert plan.refused and codes == ["newer"]
        with pytest.raises(bayswap.BaySwapError) as caught:
            plan.run()
        assert caught.value.code == "unsafe"
        assert home.carry("Lantern Skiff", "bench", "quay-tv", accept=codes).run().entry


def test_an_undo_over_newer_progress_says_so_and_keeps_it(world):
    with bayswap.Home() as home:
        home.carry("Lantern Skiff", "bench", "quay-tv").run()
        save = world / "quay-tv" / SKIFF
        played = bytes([1]) + save.read_bytes()[1:]
        save.write_bytes(played)
        os.utime(save, (2000000000, 2000000000))
        plan = home.undo(accept=["newer"])
        assert "changed-since" in [issue["code"] for issue in plan.show()["issues"]]
        undone = plan.run().entry
        assert save.read_bytes() != played
        home.restore(undone, before=True, accept=["newer"]).run()
        assert save.read_bytes() == played


def test_the_schema_has_what_the_library_takes(world):
    """Each request with a key that nobody knows: the error lists those that are known."""
    schema = json.loads((EXAMPLES.parent.parent / "docs/schema/requests.json").read_text())["$defs"]
    with bayswap.Home() as home:
        calls = {
            "list": lambda request: _native.text("bsw_list", home._open(), b"bench", request),
            "inspect": lambda request: _native.text("bsw_inspect", home._open(), b"", 0, request),
            "convert": lambda request: _native.convert(home._open(), b"", None, request),
            "backup": lambda request: _native.text("bsw_backup", home._open(), b"bench", request),
            "logbook": lambda request: _native.text("bsw_logbook", home._open(), request),
            "call": lambda request: _native.text("bsw_call", home._open(), b"bay list", request),
            "card_make": lambda request: _native.handle("bsw_card_make", request),
            "home_open": lambda request: _native.handle("bsw_home_open", None, request),
        }
        for name, wanted in schema.items():
            request = {key: "x" for key in wanted["required"]}
            if "do" in wanted["properties"]:
                request["do"] = wanted["properties"]["do"]["const"]
            if "entry" in request:
                request["entry"] = 1
            call = calls.get(name, lambda request: _native.handle("bsw_plan_make", home._open(), request))
            with pytest.raises(bayswap.BaySwapError) as caught:
                call(_native.request({**request, "nobody knows": 1}))
            assert caught.value.code == "bad_usage", name
            assert caught.value.hint == "its keys are " + ", ".join(sorted(wanted["properties"])), name


def test_names_of_any_bytes(world):
    odd = os.fsdecode(b"odd \x80\xbf\xc0\xff name.sra")
    (world / "bench/dumps" / odd).write_bytes((world / "bench/dumps/N99P.sra").read_bytes())
    with bayswap.Home() as home:
        paths = [save["path"] for save in home.saves("bench")]
        assert f"dumps/{odd}" in paths
        # What a document says can be passed back, as an argument and within a request.
        plan = home.carry(f"dumps/{odd}", "bench", "quay-tv", rom="roms/Lantern Skiff (Europe).z64", accept=["wrong-game"])
        assert plan.show()["from"]["files"] == [str(world / "bench/dumps" / odd)]


def test_cards(world):
    with bayswap.Card.open((world / "clubroom/cards/kelp-parade.card").read_bytes()) as card:
        assert card.show()["kind"] == "gc" and len(card.saves) == 3
        name = card.saves[0]["name"]
        icon = card.icon(name)
        assert len(icon.rgba) == 4 * icon.width * icon.height > 0
        with bayswap.Card.make("gc") as fresh:
            fresh.add(card.take(name))
            assert [save["name"] for save in fresh.saves] == [name]
            with pytest.raises(bayswap.BaySwapError) as caught:
                fresh.add(card.take(name))
            assert caught.value.code == "unsafe"
            with bayswap.Card.open(fresh.image()) as again:
                assert again.take(name, "payload") == card.take(name, "payload")


def test_threads_wait_for_each_other(world):
    failed = []

    def look(home):
        try:
            for _ in range(10):
                assert len(home.saves("bench")) == 3
        except BaseException as error:
            failed.append(error)

    with bayswap.Home() as home:
        threads = [threading.Thread(target=look, args=(home,)) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert not failed


CARRY = "import bayswap; bayswap.Home().carry('Lantern Skiff', 'bench', 'quay-tv').run()"


@pytest.mark.parametrize("mode", ["kill", "torn"])
def test_a_kill_loses_nothing(world, mode):
    """A second program beside the tool: killed at each of its calls that writes; the tool settles it and takes it back."""
    before = tree(world / "quay-tv")
    dated = (world / "quay-tv" / SKIFF).stat().st_mtime
    tool = os.environ["BAYSWAP_TOOL"]
    for at in range(1, 1000):
        killed = subprocess.run(
            [sys.executable, "-c", CARRY],
            env={**os.environ, "LD_PRELOAD": os.environ["BAYSWAP_FAILPOINT"], "FAILPOINT_AT": str(at), "FAILPOINT_MODE": mode},
            capture_output=True,
        )
        assert killed.returncode in (0, -signal.SIGKILL), killed.stderr.decode()
        subprocess.run([tool, "logbook", "check"], check=True, capture_output=True)
        now = tree(world / "quay-tv")
        assert set(now) == set(before), "a file is left over"
        if now != before:
            subprocess.run([tool, "undo", "--yes"], check=True, capture_output=True)
            os.utime(world / "quay-tv" / SKIFF, (dated, dated))
        assert tree(world / "quay-tv") == before
        if killed.returncode == 0:
            assert at > 20
            return
    pytest.fail("it never came to an end")


def test_the_examples_run(world, tmp_path):
    def run(*words, text=""):
        environment = {**os.environ, "PYTHONPATH": str(EXAMPLES.parent)}
        return subprocess.run(
            [sys.executable, *map(str, words)], env=environment, input=text, capture_output=True, text=True, check=True
        ).stdout

    assert "Kelp Parade" in run(EXAMPLES / "list_with_icons.py", world / "clubroom/cards/kelp-parade.card", tmp_path / "icons")
    assert (tmp_path / "icons/0.png").read_bytes().startswith(b"\x89PNG")
    assert "3 carried" in run(EXAMPLES / "carry_with_progress.py", "bench", "quay-tv", text="y\n")
    assert "bench: 3 kept" in run(EXAMPLES / "nightly_backup.py")
    assert "bench: 0 kept, 3 the same already" in run(EXAMPLES / "nightly_backup.py")
