"""What environment variables set is read, and refused by name where it cannot be."""

import pytest

from gambrel.commands.places import CommandError
from gambrel.commands.serving import _check_settings
from gambrel.commands.settings import caches_bytes_from, keep_from, log_bytes_from, proxies_from
from gambrel.core.caches import MIB


def test_what_is_not_set_is_as_usual():
    assert caches_bytes_from({}) == 96 * MIB
    assert log_bytes_from({}) == 8 * MIB
    assert keep_from({}).versions == 100
    assert proxies_from({}) == 0


def test_what_is_set_counts():
    assert caches_bytes_from({"GAMBREL_CACHES_MIB": "512"}) == 512 * MIB
    assert keep_from({"GAMBREL_KEEP_VERSIONS": "7"}).versions == 7


@pytest.mark.parametrize(
    "name",
    [
        "GAMBREL_CACHES_MIB",
        "GAMBREL_FORECAST_MIB",
        "GAMBREL_BESIDE_MIB",
        "GAMBREL_LOG_MIB",
        "GAMBREL_KEEP_VERSIONS",
    ],
)
@pytest.mark.parametrize("value", ["0", "-1", "1.5", "much", "²", "9" * 400])
def test_what_cannot_be_is_refused_before_anything_starts(monkeypatch, name, value):
    monkeypatch.setenv(name, value)
    with pytest.raises(CommandError, match=name):
        _check_settings()
