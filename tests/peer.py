"""One end of a TCP connection, run inside a namespace: says who it saw."""

from __future__ import annotations

import socket
import sys
import time

if sys.argv[1] == "serve":
    with socket.create_server((sys.argv[2], int(sys.argv[3]))) as listener:
        listener.settimeout(15)
        connection, (address, _) = listener.accept()
        print(address, connection.getsockname()[1])
        connection.sendall(b"hello")
        connection.close()
else:
    for attempt in range(40):
        try:
            with socket.create_connection((sys.argv[3], int(sys.argv[4])), 3, (sys.argv[2], 0)) as connection:
                assert connection.recv(5) == b"hello"
            break
        except ConnectionRefusedError:
            # The other end is not listening yet.
            if attempt == 39:
                raise
            time.sleep(0.1)
