"""Schedules the way people say them, in both directions.

What `schedule_in_words` writes, `schedule_from_words` reads back. A rule that has no plain words is
shown as it stands, and may be pasted as it stands (RFC 5545, 3.3.10).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import date, datetime, time
from typing import Any

from gambrel.core.plan.objects import KINDS, DayRowSchedule, Kind, RuleSchedule, Schedule
from gambrel.core.plan.recurrence_rules import parse_rule

CODES = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
DAY_NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_ORDINALS = {1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last"}
_WORKDAYS = frozenset(range(5))
EXAMPLES = (
    "every weekday at 20:00",
    "on Saturday at 21:00",
    "every day but Friday at 20:00",
    "on the second Saturday of the month at 21:00",
    "on the last weekday of the month at 22:00",
    "on the 1st and 15th of the month at 22:00",
    "every 2 weeks on Saturday at 21:00",
    "every 20 minutes from 06:10 to 05:40",
    "every 4 hours on weekdays",
    "once on 2026-11-30 at 22:00",
)
"""Ways to say when a job runs."""


class NotUnderstood(ValueError):
    """Words that name no schedule; the text says what is missing."""


# --- in words ---------------------------------------------------------------------------------


def listed(words: Sequence[str]) -> str:
    """ "a", "a and b", "a, b and c"."""
    return " and ".join(filter(None, [", ".join(words[:-1]), words[-1]])) if words else ""


def number(value: float) -> str:
    return f"{value:,.10g}"


def rule_parts(rule: str) -> dict[str, str]:
    """The parts of a recurrence rule by name, in capitals."""
    return {k.upper(): v.upper() for k, _, v in (part.partition("=") for part in rule.split(";"))}


def _days_in_words(days: Iterable[int]) -> str:
    chosen = frozenset(days)
    if chosen == _WORKDAYS:
        return "weekdays"
    if chosen == {5, 6}:
        return "weekends"
    return listed([DAY_NAMES[day] for day in sorted(chosen)])


def _on_days(days: frozenset[int]) -> str:
    if len(days) == 7:
        return "every day"
    if days == _WORKDAYS:
        return "every weekday"
    if len(days) == 6:
        missing = next(day for day in range(7) if day not in days)
        return f"every day but {DAY_NAMES[missing]}"
    return f"on {_days_in_words(days)}"


def _ordinal(value: int) -> str:
    suffix = "th" if 10 <= value % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(value % 10, "th")
    return f"{value}{suffix}"


def _numbered_days(codes: Sequence[str]) -> str | None:
    """ "2SA,4SA" as "second and fourth Saturday"; None for anything else."""
    found = [re.fullmatch(r"(-?\d)([A-Z]{2})", code) for code in codes]
    places = [(int(m[1]), m[2]) for m in found if m is not None]
    if len(places) != len(codes) or len({day for _, day in places}) != 1:
        return None
    if any(place not in _ORDINALS or day not in CODES for place, day in places):
        return None
    return f"{listed([_ORDINALS[p] for p, _ in places])} {DAY_NAMES[CODES.index(places[0][1])]}"


def _monthly(parts: dict[str, str]) -> str | None:
    keys = set(parts) - {"FREQ"}
    if keys == {"BYMONTHDAY"}:
        days = [int(day) for day in parts["BYMONTHDAY"].split(",")]
        if days == [-1]:
            return "on the last day of the month"
        if all(day > 0 for day in days):
            return f"on the {listed([_ordinal(day) for day in days])} of the month"
    elif keys == {"BYDAY"}:
        said = _numbered_days(parts["BYDAY"].split(","))
        return None if said is None else f"on the {said} of the month"
    elif keys == {"BYDAY", "BYSETPOS"} and set(parts["BYDAY"].split(",")) == set(CODES[:5]):
        place = int(parts["BYSETPOS"]) if re.fullmatch(r"-?\d+", parts["BYSETPOS"]) else 0
        return f"on the {_ORDINALS[place]} weekday of the month" if place in _ORDINALS else None
    return None


def _weekly(parts: dict[str, str], day: date) -> str | None:
    codes = parts["BYDAY"].split(",") if "BYDAY" in parts else []
    if any(code not in CODES for code in codes) or not set(parts) <= {"FREQ", "INTERVAL", "BYDAY"}:
        return None
    every = int(parts.get("INTERVAL", "1"))
    days = frozenset(CODES.index(code) for code in codes)
    if parts["FREQ"] == "DAILY":
        if every > 1:
            return None if codes else f"every {every} days"
        return _on_days(days or frozenset(range(7)))
    days = days or frozenset([day.weekday()])
    if every == 1:
        return _on_days(days)
    return f"every {every} weeks on {_days_in_words(days)}"


def _rule_in_words(schedule: RuleSchedule) -> str:
    parts = rule_parts(schedule.rrule)
    at = f"at {schedule.start:%H:%M}"
    if parts == {"FREQ": "DAILY", "COUNT": "1"}:
        return f"once on {schedule.start:%Y-%m-%d} {at}"
    said: str | None = None
    if parts["FREQ"] in ("DAILY", "WEEKLY"):
        said = _weekly(parts, schedule.start.date())
    elif parts["FREQ"] == "MONTHLY":
        said = _monthly(parts)
    return f"by the rule {schedule.rrule} {at}" if said is None else f"{said} {at}"


def _row_in_words(schedule: DayRowSchedule) -> str:
    minutes = schedule.every_min
    hours = minutes / 60
    every = f"{hours:g} hours" if hours >= 2 and hours.is_integer() else None
    if minutes == 60:
        every = "hour"
    said = f"every {every or f'{minutes:.10g} minutes'} "
    said += f"from {schedule.from_time:%H:%M} to {schedule.to_time:%H:%M}"
    if len(set(schedule.days)) < 7:
        said += f" on {_days_in_words(schedule.days)}"
    return said


def timing_in_words(schedule: Schedule) -> str:
    """When a schedule occurs, without its kind: "every weekday at 20:00, until 2026-12-24"."""
    if isinstance(schedule, DayRowSchedule):
        said = _row_in_words(schedule)
    else:
        said = _rule_in_words(schedule)
    if schedule.skip or schedule.skip_dates:
        moved = "moved off" if schedule.when_skipped == "next_day" else "not on"
        said += f", {moved} " + listed([*schedule.skip, *map(str, schedule.skip_dates)])
    if schedule.extra:
        said += ", also on " + listed([f"{at:%Y-%m-%d %H:%M}" for at in schedule.extra])
    if schedule.until is not None:
        said += f", until {schedule.until}"
    return said


def schedule_in_words(schedule: Schedule) -> str:
    """A schedule as one would say it: "full on Friday at 21:00"."""
    return f"{schedule.kind} {timing_in_words(schedule)}"


def runs_a_day(schedule: DayRowSchedule) -> int:
    """How many runs one row of a schedule of many runs a day makes."""
    begin = schedule.from_time.hour * 60 + schedule.from_time.minute
    end = schedule.to_time.hour * 60 + schedule.to_time.minute
    end += 1440 if end <= begin else 0
    return int((end - begin) / schedule.every_min + 1e-9) + 1


# --- from words -------------------------------------------------------------------------------

_HOUR = r"(?:[01]?\d|2[0-3])"
_TIME = rf"(?:noon|midnight|{_HOUR}[:.][0-5]\d\s*(?:am|pm)?|1?\d\s*(?:am|pm)|{_HOUR})"
_DATE = r"\d{4}-\d\d-\d\d"


def _time(text: str) -> time:
    said = text.strip().lower()
    if said in ("noon", "midnight"):
        return time(12 if said == "noon" else 0)
    match = re.fullmatch(r"(\d{1,2})(?:[:.](\d\d))?\s*(am|pm)?", said)
    if match is None:
        raise NotUnderstood(f"“{text}” is no time of day: write it like 20:00")
    hour, minute, half = int(match[1]), int(match[2] or 0), match[3]
    if half is not None:
        if not 1 <= hour <= 12:
            raise NotUnderstood(f"“{text}” is no time of day: write it like 8 pm or 20:00")
        hour = hour % 12 + (12 if half == "pm" else 0)
    return time(hour, minute)


def _date(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise NotUnderstood(f"{text} is no date") from None


def _day(word: str) -> int:
    known = [
        i
        for i, name in enumerate(DAY_NAMES)
        if word.lower() in (name.lower(), name.lower() + "s", name[:3].lower(), CODES[i].lower())
        or word.lower() == {1: "tues", 3: "thurs"}.get(i, name[:4].lower() if i == 2 else "")
    ]
    if not known:
        raise NotUnderstood(f"“{word}” is no day of the week")
    return known[0]


def _split(text: str) -> list[str]:
    return [
        word for word in re.split(r"\s*,\s*(?:and\s+)?|\s+and\s+|\s*\+\s*", text.strip()) if word
    ]


def _days(text: str) -> frozenset[int]:
    """ "weekdays", "weekends", "Monday to Thursday", "Mon, Wed and Fri"."""
    said = text.strip().lower()
    if said in ("weekday", "weekdays", "workdays", "working days", "workday"):
        return _WORKDAYS
    if said in ("weekend", "weekends"):
        return frozenset((5, 6))
    if said in ("every day", "all days", "any day"):
        return frozenset(range(7))
    found: set[int] = set()
    for word in _split(said):
        span = re.fullmatch(r"(\w+)\s*(?:to|-|–|till|through)\s*(\w+)", word)
        if span is None:
            found.add(_day(word))
            continue
        first, last = _day(span[1]), _day(span[2])
        found.update((first + i) % 7 for i in range((last - first) % 7 + 1))
    return frozenset(found)


def _codes(days: Iterable[int]) -> str:
    return ",".join(CODES[day] for day in sorted(days))


def _weekly_rule(days: frozenset[int], every: int = 1) -> str:
    if len(days) == 7 and every == 1:
        return "FREQ=DAILY"
    interval = "" if every == 1 else f"INTERVAL={every};"
    return f"FREQ=WEEKLY;{interval}BYDAY={_codes(days)}"


_PLACES = {word: place for place, word in _ORDINALS.items()}
_PLACES |= {"1st": 1, "2nd": 2, "3rd": 3, "4th": 4, "5th": 5}


def _monthly_rule(text: str) -> str | None:
    """The rule for what stands between "on the" and "of the month"."""
    said = re.sub(r"^(?:on\s+)?(?:the\s+)?", "", text.strip().lower())
    said = re.sub(r"\s+of\s+(?:the|each|every)\s+month$", "", said)
    if said == "last day":
        return "FREQ=MONTHLY;BYMONTHDAY=-1"
    dates = re.fullmatch(r"(?:day\s+)?((?:\d+(?:st|nd|rd|th)?(?:\s*,\s*|\s+and\s+)?)+)", said)
    monthly = said != text.strip().lower() or "day " in said
    if dates and monthly:
        days = [int(re.sub(r"\D", "", word)) for word in _split(dates[1])]
        if not all(1 <= day <= 31 for day in days):
            raise NotUnderstood("a month has days 1 to 31")
        return "FREQ=MONTHLY;BYMONTHDAY=" + ",".join(map(str, days))
    words = said.rsplit(" ", 1)
    if len(words) != 2:
        return None
    places = [_PLACES.get(word) for word in _split(words[0])]
    if not places or any(place is None for place in places):
        return None
    if words[1] in ("weekday", "workday"):
        if len(places) != 1:
            return None
        return f"FREQ=MONTHLY;BYDAY={_codes(_WORKDAYS)};BYSETPOS={places[0]}"
    code = CODES[_day(words[1])]
    return "FREQ=MONTHLY;BYDAY=" + ",".join(f"{place}{code}" for place in places)


def _rule_for(text: str) -> str:
    """The recurrence rule for everything before "at 20:00". Raises NotUnderstood."""
    said = text.strip().lower()
    if said in ("every day", "daily", "each day", "every night", "nightly"):
        return "FREQ=DAILY"
    match = re.fullmatch(r"(?:every|each) (\d+) days", said)
    if match:
        return f"FREQ=DAILY;INTERVAL={int(match[1])}"
    match = re.fullmatch(r"every day (?:but|except) (?:on )?(.+)", said)
    if match:
        return _weekly_rule(frozenset(range(7)) - _days(match[1]))
    match = re.fullmatch(r"every (?:(\d+) weeks|other week|second week) on (.+)", said)
    if match:
        return _weekly_rule(_days(match[2]), int(match[1] or 2))
    match = re.fullmatch(r"every other (\w+)", said)
    if match:
        return _weekly_rule(_days(match[1]), 2)
    monthly = _monthly_rule(said)
    if monthly is not None:
        return monthly
    match = re.fullmatch(r"(?:(?:every|each|on|weekly|weekly on|every week on)\s+)?(.+)", said)
    assert match is not None
    return _weekly_rule(_days(match[1]))


def _row(text: str) -> dict[str, Any] | None:
    match = re.fullmatch(
        r"(?:every|each) (?:(\d+(?:\.\d+)?) ?)?(min(?:ute)?s?|hours?|h)"
        rf"(?: from ({_TIME}) (?:to|until|till) ({_TIME}))?(?: (?:on )?(.+))?",
        text.strip(),
        re.IGNORECASE,
    )
    if match is None:
        return None
    each = float(match[1] or 1) * (60 if match[2].lower().startswith("h") else 1)
    if not 1 <= each <= 1440:
        raise NotUnderstood("an interval is 1 minute to 24 hours")
    begin = time(0) if match[3] is None else _time(match[3])
    end = time(23, 59) if match[4] is None else _time(match[4])
    days = frozenset(range(7)) if match[5] is None else _days(match[5])
    return {"every_min": each, "from_time": begin, "to_time": end, "days": tuple(sorted(days))}


_SUFFIX = re.compile(
    r",?\s*\b(?:(?P<until>until|to the end of)|(?P<begins>from|beginning|starting)(?: on)?"
    r"|(?P<extra>also on|and also on)|(?P<moved>moved off)"
    r"|(?P<skip>not on|except on|but not on))\s+",
    re.IGNORECASE,
)


def _suffixes(text: str, calendars: Sequence[str]) -> tuple[str, dict[str, Any]]:
    """The words without "until ...", "not on ..." and their like, and what those say."""
    said: dict[str, Any] = {}
    marks = [m for m in _SUFFIX.finditer(text) if _is_suffix(text[m.end() :], m)]
    if not marks:
        return text, said
    for mark, following in zip(marks, [*marks[1:], None], strict=True):
        value = text[mark.end() : None if following is None else following.start()].strip(" ,.")
        if mark["until"]:
            said["until"] = _date(value)
        elif mark["begins"]:
            said["begins"] = _date(value)
        elif mark["extra"]:
            said["extra"] = tuple(_moment(word) for word in _split(value))
        else:
            said["when_skipped"] = "next_day" if mark["moved"] else "drop"
            said["skip"], said["skip_dates"] = _skipped(value, calendars)
    return text[: marks[0].start()], said


def _is_suffix(rest: str, mark: re.Match[str]) -> bool:
    """Whether a "from" or "until" is followed by a date: "from 06:10 to 05:40" is no suffix."""
    if mark["skip"] or mark["moved"]:
        return True
    return re.match(_DATE, rest) is not None


def _moment(text: str) -> datetime:
    match = re.fullmatch(rf"({_DATE})(?:\s+at)?\s+({_TIME})", text.strip())
    if match is None:
        raise NotUnderstood(f"“{text}” is no date with a time, like 2026-12-24 18:00")
    return datetime.combine(_date(match[1]), _time(match[2]))


def _skipped(text: str, calendars: Sequence[str]) -> tuple[tuple[str, ...], tuple[date, ...]]:
    names: list[str] = []
    dates: list[date] = []
    for word in _split(text):
        if re.fullmatch(_DATE, word):
            dates.append(_date(word))
            continue
        known = [name for name in calendars if name.lower() == word.lower()]
        if not known:
            have = f"; there is {listed(list(calendars))}" if calendars else "; there is none yet"
            raise NotUnderstood(f"“{word}” is no calendar of this plan{have}")
        names.append(known[0])
    return tuple(names), tuple(dates)


def _rule_is_sound(rule: str, start: datetime) -> None:
    try:
        parse_rule(rule, start)
    except ValueError as error:
        raise NotUnderstood(f"the rule {error}") from None


def schedule_from_words(
    text: str,
    *,
    kind: Kind = "incremental",
    day: date,
    time_zone: str,
    calendars: Sequence[str] = (),
) -> Schedule:
    """The schedule that words name, such as "full on the second Saturday at 21:00".

    Args:
        kind: what runs, where the words do not say it.
        day: the first date on which it may run, where the words do not say it.
        calendars: ids that "not on ..." may name.

    Raises:
        NotUnderstood: with what is missing or wrong.
    """
    said = " ".join(text.split()).strip(" .")
    first, _, rest = said.partition(" ")
    for known in KINDS:
        if first.lower() in (known, known + "s") and rest:
            kind, said = known, rest
    if not said:
        raise NotUnderstood("say when, for instance “every weekday at 20:00”")
    said, more = _suffixes(said, calendars)
    day = more.pop("begins", day)
    raw = re.search(r"FREQ=\S+", said, re.IGNORECASE)
    if raw:
        return _raw(raw[0].removeprefix("RRULE:"), said, kind, day, time_zone, more)
    row = _row(said)
    if row is not None:
        return DayRowSchedule(kind=kind, start=day, time_zone=time_zone, **row, **more)
    match = re.fullmatch(rf"(.+?)(?:\s+at)?\s+({_TIME})", said, re.IGNORECASE)
    if match is None:
        raise NotUnderstood("say the time too, for instance “at 20:00”")
    words, at = match[1], _time(match[2])
    once = re.fullmatch(rf"(?:once )?(?:on )?({_DATE})", words.strip(), re.IGNORECASE)
    if once:
        day, rule = _date(once[1]), "FREQ=DAILY;COUNT=1"
    else:
        rule = _rule_for(words)
    start = datetime.combine(day, at)
    _rule_is_sound(rule, start)
    return RuleSchedule(kind=kind, rrule=rule, start=start, time_zone=time_zone, **more)


def _raw(
    rule: str, said: str, kind: Kind, day: date, time_zone: str, more: dict[str, Any]
) -> RuleSchedule:
    at = re.search(rf"\bat ({_TIME})$", said)
    parts = rule_parts(rule)
    if at is None and "BYHOUR" not in parts:
        raise NotUnderstood("say the time too, for instance “… at 20:00”")
    start = datetime.combine(day, time(0) if at is None else _time(at[1]))
    _rule_is_sound(rule, start)
    return RuleSchedule(kind=kind, rrule=rule, start=start, time_zone=time_zone, **more)
