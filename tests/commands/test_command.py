"""The command line, in processes of its own."""

from __future__ import annotations

import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import psutil
import pymysql
import pytest
from plans import small_file
from vector_cases import VECTORS, differences, load

from gambrel.commands.database import Instance, port_is_free
from gambrel.commands.places import CommandError

PROJECT = Path(__file__).parents[2]


def gambrel(*arguments, url=None, timeout=120):
    environment = {**os.environ, "PYTHONPATH": str(PROJECT / "src")}
    if url:
        environment["GAMBREL_DATABASE_URL"] = url
    return subprocess.run(
        [sys.executable, "-m", "gambrel.cli", *arguments],
        capture_output=True,
        text=True,
        env=environment,
        timeout=timeout,
        check=False,
    )


# --- help -------------------------------------------------------------------------------------


def test_without_arguments_it_explains_itself():
    done = subprocess.run([PROJECT / "gambrel"], capture_output=True, text=True, check=False)
    assert done.returncode == 0
    for command in ("demo", "start", "simulate", "load", "save", "test"):
        assert f"./gambrel {command}" in done.stdout


def test_an_unknown_command_is_told_before_anything_is_set_up():
    done = subprocess.run(
        [PROJECT / "gambrel", "dance"], capture_output=True, text=True, check=False
    )
    assert done.returncode == 2
    assert "There is no command dance" in done.stderr


# --- the engine -------------------------------------------------------------------------------

LEFT_TO_COMPILE = """
import importlib, pkgutil
import gambrel.core
from gambrel.api import serialize
from gambrel.commands.compiling import compile_engine
from gambrel.core.balance.explaining import tell
from gambrel.core.balance.moves import Candidate
from gambrel.core.balance.problem import Problem
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.nights.nights import week_of
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate
from gambrel.demo import larkmoor
from datetime import date
from numba.core.dispatcher import Dispatcher

def compiled():
    found = {}
    for module in pkgutil.walk_packages(gambrel.core.__path__, "gambrel.core."):
        for name, item in vars(importlib.import_module(module.name)).items():
            if isinstance(item, Dispatcher):
                found[f"{module.name}.{name}"] = list(item.signatures)
    return found

compile_engine()
before = compiled()
plan = read_plan(larkmoor())
week = week_of(date(2026, 11, 2), "Europe/Dublin")
forecast = simulate(plan, week[0].start, week[-1].end)
for night in week:
    serialize.night(forecast, night, None)
points = snapshot_of_state(plan)
tell(Problem(plan, week[0].start, week[-1].end, week[0].zone, points, frozenset()), Candidate())
print([name for name, signatures in compiled().items() if signatures != before[name]])
"""


@pytest.mark.long
def test_nothing_of_the_engine_is_left_to_compile_when_it_is_used():
    environment = {**os.environ, "PYTHONPATH": str(PROJECT / "src")}
    done = subprocess.run(
        [sys.executable, "-c", LEFT_TO_COMPILE],
        capture_output=True, text=True, env=environment, check=False,
    )  # fmt: skip
    assert (done.stdout, done.stderr) == ("[]\n", "")


# --- simulate ---------------------------------------------------------------------------------


@pytest.fixture
def plan_path(tmp_path):
    path = tmp_path / "plan.json"
    path.write_text(json.dumps(small_file()))
    return path


def simulate(plan, output, start="2026-11-06T12:00:00Z", end="2026-11-07T12:00:00Z"):
    return gambrel("simulate", str(plan), "--from", start, "--to", end, "--output", str(output))


def test_simulate_writes_the_result_file(tmp_path):
    case = load("case-one-full.json")
    plan, output = tmp_path / "plan.json", tmp_path / "result.json"
    plan.write_text(json.dumps(case["plan"]))
    done = simulate(plan, output, case["from"], case["to"])
    assert (done.returncode, done.stderr) == (0, "")
    assert differences(case["result"], json.loads(output.read_text())) == []


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{", "line 1, column 2"),
        ('{"format": "other"}', "format: 'other' is not gambrel-plan/1"),
        (json.dumps(small_file(proxies=[{"id": "p", "site": "x", "slots": 0}])), "proxies[0].site"),
    ],
)
def test_a_malformed_plan_is_a_message_and_leaves_no_result(tmp_path, text, said):
    plan, output = tmp_path / "plan.json", tmp_path / "result.json"
    plan.write_text(text)
    output.write_text("what was there before")
    done = simulate(plan, output)
    assert done.returncode == 1
    assert said in done.stderr
    assert "Traceback" not in done.stderr
    assert output.read_text() == "what was there before"


def test_other_mistakes_are_messages_too(tmp_path, plan_path):
    output = tmp_path / "result.json"
    for done, said in (
        (simulate(tmp_path / "none.json", output), "Cannot read"),
        (simulate(plan_path, tmp_path / "no" / "folder.json"), "Cannot write"),
        (simulate(plan_path, output, start="yesterday"), "--from"),
        (simulate(plan_path, output, end="2026-11-06T12:00:00Z"), "not after"),
    ):
        assert done.returncode == 1
        assert said in done.stderr
        assert "Traceback" not in done.stderr


# --- load and save ----------------------------------------------------------------------------


def test_a_plan_loaded_and_saved_is_the_same_file(tmp_path, new_database):
    url = new_database()
    # One that cannot be read is not stored.
    assert gambrel("load", str(VECTORS / "sharing.json"), url=url).returncode == 1
    assert "No plan is stored yet" in gambrel("save", url=url).stderr
    sample, saved = tmp_path / "sample.json", tmp_path / "saved.json"
    assert gambrel("sample", "tiny", "--output", str(sample)).returncode == 0
    loaded = gambrel("load", str(sample), "--name", "mine", url=url)
    assert "Stored as plan mine" in loaded.stdout
    assert gambrel("save", "--name", "mine", "--output", str(saved), url=url).returncode == 0
    assert saved.read_text() == sample.read_text()
    assert "There is no plan other" in gambrel("save", "--name", "other", url=url).stderr
    assert "no open draft 7" in gambrel("save", "--draft", "7", url=url).stderr


def test_a_database_that_does_not_answer_is_a_message():
    done = gambrel("save", url="mariadb+pymysql://nobody@127.0.0.1:1/none")
    assert done.returncode == 1
    assert "The database cannot be used" in done.stderr
    assert "Traceback" not in done.stderr


# --- the database of our own ------------------------------------------------------------------


def reachable(url):
    password, port = re.search(r"gambrel:(.+)@127.0.0.1:(\d+)/", url).groups()
    pymysql.connect(
        host="127.0.0.1", port=int(port), user="gambrel", password=password, database="gambrel"
    ).close()
    return True


def test_the_server_starts_stops_and_starts_again(tmp_path):
    instance = Instance(tmp_path)
    url = instance.start()
    assert reachable(url)
    pid = instance.running_pid()
    instance.stop()
    assert not Path(f"/proc/{pid}").exists()
    again = Instance(tmp_path)
    assert again.start() == url
    again.stop()


def test_a_server_that_was_killed_comes_back_with_its_data(tmp_path):
    instance = Instance(tmp_path)
    url = instance.start()
    os.kill(instance.running_pid(), signal.SIGKILL)
    instance._process.wait()
    again = Instance(tmp_path)
    assert again.start() == url
    assert reachable(url)
    again.stop()


def test_a_half_made_folder_is_made_anew(tmp_path):
    (tmp_path / "data").mkdir()
    (tmp_path / "data" / "ibdata1").write_text("cut short")
    instance = Instance(tmp_path)
    assert reachable(instance.start())
    instance.stop()


def test_its_port_is_changed_when_another_program_has_it(tmp_path):
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        port = other.getsockname()[1]
        (tmp_path / "port").write_text(str(port))
        assert not port_is_free(port)
        instance = Instance(tmp_path)
        url = instance.start()
        assert f":{port}/" not in url
        instance.stop()


def test_a_folder_without_the_right_to_it_is_named(tmp_path, monkeypatch):
    (tmp_path / "data").mkdir()
    monkeypatch.setattr("gambrel.commands.database.os.access", lambda *_a: False)
    with pytest.raises(CommandError, match="no right to write"):
        Instance(tmp_path).start()
    assert (tmp_path / "data").exists()


def test_a_missing_program_is_named(tmp_path, monkeypatch):
    monkeypatch.setattr("gambrel.commands.database.shutil.which", lambda *_a, **_k: None)
    with pytest.raises(CommandError, match="mariadb-server-core"):
        Instance(tmp_path).start()


# --- serving ----------------------------------------------------------------------------------


def start_serving(url, state, *arguments):
    environment = {"GAMBREL_STATE": str(state), "GAMBREL_SAMPLE_NIGHTS": "2"}
    if url is not None:
        environment["GAMBREL_DATABASE_URL"] = url
    return subprocess.Popen(
        [sys.executable, "-m", "gambrel.cli", *arguments],
        env={**os.environ, "PYTHONPATH": str(PROJECT / "src"), **environment},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def read_address(process):
    for line in process.stdout:
        found = re.search(r"http://127\.0\.0\.1:\d+(?=/sign-in#)", line)
        if found:
            return found[0]
    raise AssertionError(process.stderr.read())


def children(pid):
    """The processes below a process."""
    return set(psutil.Process(pid).children(recursive=True))


def running(processes):
    """Those that still run after a while; what waits for its parent to take note is over."""
    _, alive = psutil.wait_procs(
        [p for p in processes if p.is_running() and p.status() != psutil.STATUS_ZOMBIE], timeout=30
    )
    return [p for p in alive if p.is_running() and p.status() != psutil.STATUS_ZOMBIE]


def wait_for_answer(address):
    """Wait until the application and its database answer again."""
    deadline = time.monotonic() + 180
    while True:
        try:
            urllib.request.urlopen(f"{address}/api/v1/session", timeout=10).close()
            return
        except OSError:
            assert time.monotonic() < deadline
            time.sleep(0.2)


NEEDS_PAGES = pytest.mark.skipif(
    not (PROJECT / "web" / "dist" / "index.html").exists(), reason="the pages are not built"
)


@pytest.mark.long
@NEEDS_PAGES
def test_serving_survives_a_killed_application_and_leaves_nothing_behind(new_database, tmp_path):
    process = start_serving(new_database(), tmp_path, "start")
    try:
        address = read_address(process)
        with urllib.request.urlopen(f"{address}/api/v1/session", timeout=10) as answer:
            assert answer.status == 200
        seen = children(process.pid)
        assert seen
        for each in seen:
            each.kill()
        assert "Starting it again" in process.stderr.readline()
        wait_for_answer(address)
        seen |= children(process.pid)
        busy = start_serving(new_database(), tmp_path, "start")
        assert "already runs from this folder" in busy.communicate(timeout=60)[1]
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
    assert process.returncode == 0
    assert running(seen) == []


@pytest.mark.long
@NEEDS_PAGES
def test_a_database_that_dies_comes_back_by_itself(tmp_path):
    process = start_serving(None, tmp_path, "start")
    try:
        address = read_address(process)
        for _ in range(2):
            server = next(p for p in children(process.pid) if "mariadbd" in p.name())
            server.kill()
            assert "The database stopped" in process.stderr.readline()
            assert "is back" in process.stderr.readline()
            wait_for_answer(address)
        seen = children(process.pid)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
    assert process.returncode == 0
    assert running(seen) == []


def test_simulate_writes_what_is_under_way_and_goes_on_from_it(tmp_path):
    case = load("case-one-full.json")
    plan, middle, output = (tmp_path / name for name in ("plan.json", "middle.json", "rest.json"))
    plan.write_text(json.dumps(case["plan"]))
    run = case["result"]["runs"][0]
    instant = run["machines"][0]["moved"]
    ran = gambrel("simulate", str(plan), "--from", case["from"], "--to", case["to"],
                  "--state-at", instant, "--state-output", str(middle))  # fmt: skip
    assert (ran.returncode, ran.stderr) == (0, "")
    done = simulate(middle, output, instant, case["to"])
    assert (done.returncode, done.stderr) == (0, "")
    found = json.loads(output.read_text())["runs"]
    assert differences(run, found[0]) == []
    early = simulate(middle, output, case["from"], case["to"])
    assert "simulate from there" in early.stderr
