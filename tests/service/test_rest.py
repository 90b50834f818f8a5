"""Whoever turns again and again rests while nothing happens, and hears when something does."""

from __future__ import annotations

import threading

import pytest


class Rests:
    """A rest in a thread of its own; `looks`: how often it has looked so far."""

    def __init__(self, most_s, news=lambda: False):
        from pinecart.service.config.shell import Rest

        self.looks, self.stop, self.looked = 0, threading.Event(), threading.Event()
        self.news = news
        self.thread = threading.Thread(target=self._rest, args=(Rest, most_s), daemon=True)
        self.begun = threading.Event()
        self.ended = False
        self.thread.start()
        assert self.begun.wait(20)

    def _rest(self, rest, most_s):
        made = rest(most_s, self._has_news)
        made.begin()
        self.begun.set()
        made.last(self.stop)
        self.ended = True

    def _has_news(self):
        self.looks += 1
        if self.looks == 3:
            self.looked.set()
        return self.news()

    def is_over(self):
        self.thread.join(20)
        return self.ended


@pytest.fixture
def written(services):
    from pinecart.service.settings.models import Setting

    yield lambda: Setting.objects.create(name="larkfell", value=1)
    Setting.objects.filter(name="larkfell").delete()


def test_it_rests_until_something_is_written(written):
    rests = Rests(600)
    assert rests.looked.wait(20) and rests.thread.is_alive()
    written()
    assert rests.is_over()


def test_what_was_written_since_it_began_is_heard_of(written):
    rests = Rests(600, news=lambda: written() and False)  # at its first look
    assert rests.is_over() and rests.looks == 1


@pytest.mark.parametrize(("most_s", "news"), [(0, False), (600, True)])
def test_it_ends_in_time_and_by_other_news(services, most_s, news):
    assert Rests(most_s, news=lambda: news).is_over()


def test_it_ends_when_all_ends(services):
    rests = Rests(600)
    rests.stop.set()
    assert rests.is_over()
