"""The web server: waitress.

One thread takes in requests whole and sends answers out, so that neither a half-sent request nor a slow reader holds
anything else; a request gets a thread once it is complete. A stream of events holds one as long as it lasts, waiting,
without a database connection; there are more threads than streams may be (see web.api.events).
"""

from __future__ import annotations

import ctypes
import tempfile

import waitress

from keen_horizon.config import Settings
from keen_horizon.store.files import FileStore
from keen_horizon.web import create_app
from keen_horizon.web.api.events import MOST_STREAMS
from keen_horizon.web.api.optics import LARGEST_GRAPHICS

THREADS = MOST_STREAMS + 60
CONNECTIONS = 1000
IN_MEMORY = (
    9 << 20
)  # of a request on its way; a piece of an upload fits, so that a full disk is told by whoever keeps it
LARGE = 4 << 20  # bytes: memory of as much goes back when it is free; else each thread's heap keeps a piece's
_M_MMAP_THRESHOLD = -3  # <malloc.h>
RECEIVED = 256 << 10  # at a time; a piece of an upload has 8 MB
BUFFERED = 1 << 20  # of an answer that is read slowly; the rest waits in its thread


def serve(settings: Settings) -> None:
    """Answer until stopped."""
    ctypes.CDLL(None).mallopt(_M_MMAP_THRESHOLD, LARGE)
    tempfile.tempdir = str(FileStore(settings.data).work_path(""))  # larger requests wait on the disk they are kept on
    proxied = {}
    if settings.proxy:
        proxied = {
            "trusted_proxy": settings.proxy,
            "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-host", "x-forwarded-proto"},
        }
    waitress.serve(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        threads=THREADS,
        connection_limit=CONNECTIONS,
        asyncore_use_poll=True,
        channel_timeout=60,
        channel_request_lookahead=1,
        recv_bytes=RECEIVED,
        inbuf_overflow=IN_MEMORY,
        outbuf_high_watermark=BUFFERED,
        outbuf_overflow=4 * BUFFERED,
        max_request_body_size=LARGEST_GRAPHICS,
        clear_untrusted_proxy_headers=True,
        ident=None,
        **proxied,
    )
