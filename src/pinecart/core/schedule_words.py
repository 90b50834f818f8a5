"""Schedules in words: `weekdays 05:30` as a cron expression, and a cron expression in words."""

from __future__ import annotations

import re
from collections.abc import Sequence

DAYS = ("Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday")
_NUMBERS = {day.lower(): number for number, day in enumerate(DAYS)}
_NUMBERS |= {day[:3].lower(): number for number, day in enumerate(DAYS)}
_GROUPS = {"weekday": "1-5", "weekend": "6,0", "day": "*"}
_TIME = re.compile(r"(\d{1,2})[:.](\d{2})")
_EVERY = re.compile(r"every (\d+)? ?(minute|hour)s?")
_MONTHLY = re.compile(
    r"(?:on )?(?:the )?(?:day )?(first|last|\d{1,2})(?:st|nd|rd|th)?(?: day)? "
    r"of (?:the|each|every) month"
)
_FILLING = re.compile(r"\b(?:every|on|at|and|the)\b|,")


def cron_of(words: str) -> str | None:
    """The five fields that these words mean; None: they aren't understood.

    Such as `weekdays 05:30`, `Mondays and Thursdays at 6:00`, `every 20 minutes`, `first of the
    month 02:00`.
    """
    text = " ".join(words.lower().split())
    again = _EVERY.fullmatch(text)
    if again:
        return _every(int(again[1] or 1), again[2])
    monthly = _MONTHLY.match(text)
    day = ""
    if monthly:
        day = {"first": "1", "last": "L"}.get(monthly[1], monthly[1])
        text = text[monthly.end() :]
    times = _TIME.findall(text)
    at = _at(times)
    if at is None:
        return None
    if monthly:
        rest = _FILLING.sub(" ", _TIME.sub(" ", text)).strip()
        if not rest:
            return f"{at} {day} * *"
        return None
    weekdays = _weekdays(_TIME.sub(" ", text))
    if weekdays:
        return f"{at} * * {weekdays}"
    return None


def _every(count: int, unit: str) -> str | None:
    """Only what divides an hour or a day comes at even intervals."""
    if unit == "minute":
        if count < 1 or 60 % count:
            return None
        if count == 1:
            return "* * * * *"
        return f"*/{count} * * * *"
    if count < 1 or 24 % count:
        return None
    if count == 1:
        return "0 * * * *"
    return f"0 */{count} * * *"


def _at(times: Sequence[tuple[str, str]]) -> str | None:
    """Minute and hours; of several times only where the minute is one."""
    minutes = {int(minute) for _, minute in times}
    hours = sorted({int(hour) for hour, _ in times})
    if len(minutes) != 1 or hours[-1] > 23:
        return None
    (minute,) = minutes
    if minute > 59:
        return None
    named = ",".join(map(str, hours))
    return f"{minute} {named}"


def _weekdays(text: str) -> str | None:
    """The field of a cron line for days that are named in words; None: a word is no day."""
    words = _FILLING.sub(" ", text).split()
    found = []
    for word in words:
        single = word.removesuffix("s")
        number = _NUMBERS.get(word, _NUMBERS.get(single))
        if single in _GROUPS:
            found.append(_GROUPS[single])
        elif number is not None:
            found.append(str(number))
        elif word != "daily":
            return None
    if not found or "*" in found:
        return "*"
    return ",".join(found)


def in_words(cron: str, zone: str) -> str:
    """`every day at 05:30, London time`; a rare expression by its fields."""
    when = _told(*cron.split())
    if not when:
        when = f"at the cron times {cron}"
    if zone == "UTC":
        return f"{when}, UTC"
    city = zone.rpartition("/")[2].replace("_", " ")
    return f"{when}, {city} time"


def _told(minute: str, hour: str, day: str, month: str, weekday: str) -> str:
    if month != "*":
        return ""
    if (hour, day, weekday) == ("*", "*", "*"):
        return _within_hours(minute)
    if not minute.isdigit():
        return ""
    step = re.fullmatch(r"\*/(\d+)", hour)
    if step and (day, weekday) == ("*", "*") and 24 % int(step[1]) == 0:
        return f"every {step[1]} hours, {minute} min past"
    times = _times(minute, hour)
    days = _days(day, weekday)
    if times and days:
        return f"{days} at {times}"
    return ""


def _within_hours(minute: str) -> str:
    """In words, of the field for minutes; empty: it has none for that."""
    if minute == "*":
        return "every minute"
    step = re.fullmatch(r"\*/(\d+)", minute)
    if step and 60 % int(step[1]) == 0:
        return f"every {step[1]} minutes"
    if minute.isdigit():
        return f"every hour, {minute} min past"
    return ""


def _times(minute: str, hour: str) -> str:
    if not re.fullmatch(r"\d+(,\d+)*", hour):
        return ""
    past = f"{int(minute):02}"
    hours = [f"{int(one):02}" for one in hour.split(",")]
    return _listed([f"{one}:{past}" for one in hours])


def _days(day: str, weekday: str) -> str:
    if (day, weekday) == ("*", "*"):
        return "every day"
    if weekday == "*":
        if day == "L":
            return "on the last day of each month"
        if day.isdigit():
            return f"on day {day} of each month"
        return ""
    if day != "*":
        return ""
    if weekday == "1-5":
        return "on weekdays"
    numbers = re.fullmatch(r"[0-7](,[0-7])*", weekday)
    if not numbers:
        return ""
    return "on " + _listed([f"{DAYS[int(one) % 7]}s" for one in weekday.split(",")])


def _listed(words: Sequence[str]) -> str:
    *others, last = words
    if others:
        return f"{', '.join(others)} and {last}"
    return last
