"""A mail server for tests: keeps what it takes in a folder, asks some to try later, refuses others.

post.py PORT FOLDER [USER PASSWORD]
"""

import sys
import threading

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

port, folder, *login = sys.argv[1:]


class Keep:
    def __init__(self):
        self.taken = 0

    async def handle_RCPT(self, server, session, envelope, address, options):
        if address.startswith("later@"):
            return "451 4.7.1 Try again later"
        if address.startswith("never@"):
            return "550 5.1.1 No such mailbox"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):
        self.taken += 1
        name = f"{folder}/{self.taken:03}-{envelope.rcpt_tos[0]}"
        with open(name + ".part", "wb") as out:
            out.write(envelope.content)
        import os

        os.rename(name + ".part", name)
        return f"250 Kept as {self.taken}"


def check(server, session, envelope, mechanism, data):
    right = [data.login.decode(), data.password.decode()] == login
    return AuthResult(success=right)


more = dict(authenticator=check, auth_required=True, auth_require_tls=False) if login else {}
Controller(Keep(), hostname="127.0.0.1", port=int(port), **more).start()
print("ready", flush=True)
threading.Event().wait()
