"""Files of the state folder are whole, or noticed."""

import pytest

from gambrel.commands.places import CommandError
from gambrel.commands.state_files import kept_text, rotated, write_whole

MOST = 1 << 20


def test_a_file_is_made_once_and_only_its_owner_reads_it(tmp_path):
    path = tmp_path / "key"
    assert kept_text(path, lambda: "a" * 40, least=32) == "a" * 40
    assert kept_text(path, lambda: "b" * 40, least=32) == "a" * 40
    assert path.stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize("content", ["", "  \n", "abc"])
def test_a_half_written_file_is_never_used(tmp_path, content):
    path = tmp_path / "password"
    path.write_text(content)
    assert kept_text(path, lambda: "b" * 20, least=16) == "b" * 20
    path.write_text(content)
    with pytest.raises(CommandError, match=r"empty or cut short.*all is lost"):
        kept_text(path, lambda: "b" * 20, least=16, lost="all is lost")
    assert path.read_text() == content


def test_what_is_written_replaces_all_that_was_there(tmp_path):
    path = tmp_path / "port"
    path.write_text("old" * 100)
    path.with_name("port.new").write_text("left over")
    write_whole(path, "1234")
    assert path.read_text() == "1234"
    assert [p.name for p in tmp_path.iterdir()] == ["port"]


def test_a_large_log_is_put_aside(tmp_path):
    path = tmp_path / "application.log"
    for turn in range(6):
        with path.open("wb") as file:
            file.truncate(MOST + 1 + turn)
        assert rotated(path, MOST).stat().st_size == 0
        assert path.stat().st_mode & 0o777 == 0o600
    sizes = {p.name: p.stat().st_size - MOST for p in tmp_path.iterdir()}
    assert sizes.pop("application.log") < 0
    assert sizes == {
        "application.log.1": 6, "application.log.2": 5, "application.log.3": 4,
    }  # fmt: skip
