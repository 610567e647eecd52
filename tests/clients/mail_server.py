"""A mail server that keeps to the standards: says its port, then prints each message as it reads it."""

import email
import email.policy
import socket
import time

from aiosmtpd.controller import Controller


class Reader:
    async def handle_DATA(self, server, session, envelope):
        message = email.message_from_bytes(envelope.content, policy=email.policy.strict)
        print("ehlo", session.host_name)
        print("to", ",".join(envelope.rcpt_tos))
        for header in ("MIME-Version", "Auto-Submitted", "Content-Type", "Message-ID", "Date", "Subject"):
            print(header, message[header])
        print("end", flush=True)
        return "250 taken"


with socket.socket() as free:
    free.bind(("127.0.0.1", 0))
    port = free.getsockname()[1]
controller = Controller(Reader(), hostname="127.0.0.1", port=port)
controller.start()
print("port", port, flush=True)
time.sleep(600)
