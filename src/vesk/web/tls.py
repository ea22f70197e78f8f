"""TLS before the web server: what comes in encrypted is handed on, in the clear, over this machine's loopback.

The web server's own guards (whole requests only, slow senders let go) stay as they are. Which connection came from
where is known by the port that its inner end has.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
import threading
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

from vesk.core.errors import RefusedError

_BLOCK = 1 << 16
_HANDSHAKE_S = 10.0
_MOST = 500  # connections at once; more are let go at once


def context(certificate: Path, key: Path) -> ssl.SSLContext:
    """Return the settings of TLS, 1.2 and newer.

    Raises
    ------
    RefusedError
        If certificate and key cannot be used.
    """
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    made.minimum_version = ssl.TLSVersion.TLSv1_2
    try:
        made.load_cert_chain(certificate, key)
    except (OSError, ssl.SSLError) as error:
        raise RefusedError(f"{certificate} and {key} cannot be used as certificate and key: {error}") from None
    return made


class Relay:
    """Takes TLS connections at ``host:port`` and hands them on to ``127.0.0.1:inner``."""

    def __init__(self, host: str, port: int, inner: int, secured: ssl.SSLContext) -> None:
        self._host, self._port, self._inner, self._secured = host, port, inner, secured
        self._from: dict[int, str] = {}
        self._open: set[asyncio.StreamWriter] = set()
        self._thread = threading.Thread(target=self._run, daemon=True, name="tls")
        self._ready = threading.Event()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._failed: OSError | None = None
        self.port = port

    def start(self) -> None:
        """Listen, in a thread of its own; raises where the address cannot be had."""
        self._thread.start()
        self._ready.wait(10)
        if self._failed is not None:
            raise RefusedError(f"{self._host} port {self._port} cannot be listened on: {self._failed.strerror}.")

    def stop(self) -> None:
        """Listen no more, and let go of everybody."""
        if self._loop is not None and self._thread.is_alive():
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(10)

    def _run(self) -> None:
        self._loop = asyncio.new_event_loop()
        try:
            server = self._loop.run_until_complete(
                asyncio.start_server(
                    self._take,
                    self._host,
                    self._port,
                    ssl=self._secured,
                    ssl_handshake_timeout=_HANDSHAKE_S,
                )
            )
            self.port = server.sockets[0].getsockname()[1]
        except OSError as error:
            self._failed = error
            self._loop.close()
            self._ready.set()
            return
        self._ready.set()
        self._loop.run_forever()
        server.close()
        self._loop.run_until_complete(self._let_go())
        self._loop.close()

    async def _let_go(self) -> None:
        # Ends are aborted, not closed: closing TLS waits for an answer, and an end left open outlives its loop.
        for end in self._open:
            end.transport.abort()
        rest = asyncio.all_tasks() - {asyncio.current_task()}
        for task in rest:
            task.cancel()
        await asyncio.gather(*rest, return_exceptions=True)

    async def _take(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError), self._held(writer):  # either end may go away
            if len(self._from) < _MOST:
                inner_reader, inner_writer = await asyncio.open_connection("127.0.0.1", self._inner)
                port = inner_writer.get_extra_info("sockname")[1]
                with self._held(inner_writer):
                    self._from[port] = writer.get_extra_info("peername")[0]
                    ways = (self._pass(reader, inner_writer), self._pass(inner_reader, writer))
                    tasks = [asyncio.ensure_future(way) for way in ways]
                    try:
                        await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
                    finally:
                        self._from.pop(port, None)
                        for task in tasks:
                            task.cancel()

    @contextlib.contextmanager
    def _held(self, end: asyncio.StreamWriter) -> Iterator[None]:
        self._open.add(end)
        try:
            yield
        finally:
            self._open.discard(end)
            with contextlib.suppress(OSError, ssl.SSLError):
                end.close()

    @staticmethod
    async def _pass(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        # No time limit: who fetches an archive says nothing for minutes. The web server lets go of what is idle.
        with contextlib.suppress(OSError, ssl.SSLError):
            while block := await reader.read(_BLOCK):
                writer.write(block)
                await writer.drain()

    def wrap(self, app: Callable[[dict[str, Any], Any], Iterable[bytes]]) -> Callable[..., Iterable[bytes]]:
        """Return an application that is told where a connection came from, and that it came by TLS."""

        def told(environ: dict[str, Any], start: Any) -> Iterable[bytes]:
            came = self._from.get(int(environ.get("REMOTE_PORT") or 0))
            if came is not None:
                environ["REMOTE_ADDR"], environ["wsgi.url_scheme"] = came, "https"
            return app(environ, start)

        return told
