"""What the client makes of answers: in this process, over a transport of its own."""

from __future__ import annotations

import httpx
import pytest

from pinecart.client import Client, ClientError, InvalidRequest, NotAllowed, ServiceUnreachable


def client(answer):
    return Client("http://127.0.0.1:1", "token", transport=httpx.MockTransport(answer))


def problem(status, code, **facts):
    body = {"status": status, "code": code, "detail": f"It is {code}.", **facts}
    return httpx.Response(status, json=body)


@pytest.mark.parametrize(
    ("answer", "error", "code"),
    [
        (problem(403, "right.missing", right="define"), NotAllowed, "right.missing"),
        (problem(422, "job.name", problems=[]), InvalidRequest, "job.name"),
        (httpx.Response(502, text="<html>a proxy's page"), ClientError, "http.502"),
        (httpx.Response(200, text="<html>another program"), ClientError, "service.not-ours"),
    ],
)
def test_an_answer_becomes_an_error_of_its_name(answer, error, code):
    with client(lambda request: answer) as cart, pytest.raises(error) as caught:
        cart.jobs()
    assert caught.value.code == code


def test_a_service_that_is_away_or_slow_is_said():
    def away(request):
        raise httpx.ConnectError("refused")

    def slow(request):
        raise httpx.ReadTimeout("nothing came")

    for way, code in ((away, "service.unreachable"), (slow, "service.slow")):
        with client(way) as cart, pytest.raises(ClientError) as caught:
            cart.jobs()
        assert caught.value.code == code


def test_a_cut_stream_is_taken_up_where_it_was():
    asked = []
    parts = [
        b'id: 1-1\nevent: state\ndata: {"state": "working"}\n\n: a comment\n\n',
        b'id: 1-2\nevent: progress\ndata: {"done": 1}\n\nid: 1-3\nevent: state\n'
        b'data: {"state": "ended"}\n\n',
    ]

    def stream(request):
        asked.append(request.headers.get("Last-Event-ID"))
        kind = {"Content-Type": "text/event-stream"}
        return httpx.Response(200, headers=kind, content=parts[len(asked) - 1])

    with client(stream) as cart:
        told = [(kind, payload) for kind, payload in cart.follow(7)]
    assert asked == [None, "1-1"]
    assert [kind for kind, _ in told] == ["state", "progress", "state"]


def test_a_service_that_stays_away_ends_the_following():
    def away(request):
        raise httpx.ConnectError("refused")

    with client(away) as cart, pytest.raises(ServiceUnreachable):
        list(cart.follow(7, reconnects=1))
