"""Many requests over one HTTP/2 connection, read in some way: still (nothing is taken), slow, or all.

Tells how many answers were refused as too many (503), how many bytes of others came, and whether the service ended the
connection while it was waited.
"""

import json
import socket
import ssl
import sys
import time

import h2.config
import h2.connection
import h2.events

certificate, address, path, token, count, how, seconds = sys.argv[1:]
host, port = address.rsplit(":", 1)
context = ssl.create_default_context(cafile=certificate)
context.check_hostname = False
context.set_alpn_protocols(["h2"])
line = context.wrap_socket(socket.create_connection((host, int(port))), server_hostname=host)
assert line.selected_alpn_protocol() == "h2"
conn = h2.connection.H2Connection(h2.config.H2Configuration(client_side=True))
conn.initiate_connection()
line.sendall(conn.data_to_send())
asked, statuses, done, got, ended = 0, {}, set(), 0, False
until = time.time() + float(seconds)
pause = 0.4
owed = []
while time.time() < until and len(done) < int(count):
    while asked < int(count):
        head = [(":method", "GET"), (":path", path), (":scheme", "https"), (":authority", address)]
        conn.send_headers(conn.get_next_available_stream_id(), head + [("authorization", "Bearer " + token)], True)
        asked += 1
    out = conn.data_to_send()
    if out:
        line.sendall(out)
    line.settimeout(pause)
    try:
        data = line.recv(65536)
    except TimeoutError:
        data = None
    except OSError:
        ended = True
        break
    if data == b"":
        ended = True
        break
    for event in conn.receive_data(data) if data else []:
        if isinstance(event, h2.events.ResponseReceived):
            statuses[event.stream_id] = dict(event.headers)[b":status" if b":status" in dict(event.headers) else ":status"]
        elif isinstance(event, h2.events.DataReceived):
            if str(statuses.get(event.stream_id)).strip("b'") == "200":
                got += len(event.data)
            if how == "all":
                conn.acknowledge_received_data(event.flow_controlled_length, event.stream_id)
            elif how == "slow":
                owed.append((event.flow_controlled_length, event.stream_id))
        elif isinstance(event, h2.events.StreamEnded):
            done.add(event.stream_id)
        elif isinstance(event, h2.events.ConnectionTerminated):
            ended = True
    if how == "slow" and data is None and owed:
        # What came is taken only now and then.
        for length, stream in owed:
            conn.acknowledge_received_data(length, stream)
        owed = []
refused = sum(1 for s in statuses.values() if str(s).strip("b'") == "503")
print(json.dumps({"refused": refused, "bytes": got, "ended": ended}))
