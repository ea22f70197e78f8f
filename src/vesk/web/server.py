"""The web server: whole requests reach a thread, half-sent ones reach nobody and are let go.

A request waits in the event loop until all of it is there; a thread is never held by a slow or silent sender.
"""

from __future__ import annotations

import signal
import sys
import time
from types import FrameType
from typing import Any

from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.server import TcpWSGIServer
from waitress.task import ThreadedTaskDispatcher

from vesk import logs
from vesk.settings import from_environment
from vesk.web import create_app, tls

THREADS = 40
SENDING_S = 20  # the longest that sending one request may take, from its first byte to its last
_MOST_BODY = 64 << 20  # taken from the line, so that who sends too much reads why, and not a broken connection
SILENT_S = 60  # a connection on which nothing happens


class Channel(HTTPChannel):
    """A connection that knows since when its present request is being sent."""

    begun: float | None = None

    def received(self, data: bytes) -> Any:
        """Take bytes; the clock runs from the first one of a request until it is whole."""
        result = super().received(data)
        self.begun = None if self.request is None else self.begun or time.time()
        return result


class Server(TcpWSGIServer):
    """Lets go of connections whose request never becomes whole."""

    channel_class = Channel

    def maintenance(self, now: int) -> None:
        """Close what is silent, and what is sent too slowly."""
        super().maintenance(now)
        channels: dict[int, Channel] = self.active_channels  # type: ignore[assignment]  # the stub misses the map
        for channel in channels.values():
            if channel.begun is not None and now - channel.begun > SENDING_S:
                channel.will_close = True


def make_server(app: Any, address: str, *, threads: int = THREADS, proxy: str = "") -> Server:
    """Return a server that listens on ``host:port``; what `proxy`, an address, says of who asks is believed."""
    told = Adjustments(
        listen=address, threads=threads, connection_limit=1000, channel_timeout=SILENT_S, cleanup_interval=2,
        max_request_body_size=_MOST_BODY, max_request_header_size=1 << 16, asyncore_use_poll=True,
        ident=None, clear_untrusted_proxy_headers=True, trusted_proxy=proxy or None,
        trusted_proxy_headers={"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"} if proxy else set(),
    )  # fmt: skip
    dispatcher = ThreadedTaskDispatcher()
    dispatcher.set_thread_count(told.threads)
    return Server(app, {}, dispatcher=dispatcher, adj=told, sockinfo=told.listen[0])  # type: ignore[arg-type]  # opaque to us


def main(address: str, outside: str = "") -> None:
    """Serve at ``host:port`` until told to end; over TLS at `outside`, where that is named."""
    settings = from_environment()
    logs.keep(settings.var, "web")

    def end(_number: int, _frame: FrameType | None) -> None:
        raise SystemExit

    signal.signal(signal.SIGTERM, end)
    app: Any = create_app(settings)
    if outside and settings.certificate and settings.key:
        host, _, port = outside.rpartition(":")
        secured = tls.context(settings.certificate, settings.key)
        relay = tls.Relay(host.strip("[]"), int(port), int(address.rpartition(":")[2]), secured)
        relay.start()
        app = relay.wrap(app)
    make_server(app, address, proxy=settings.proxy).run()


if __name__ == "__main__":
    main(*sys.argv[1:3])
