"""A desktop that shows notices: prints title and text of each, a line each. Desktop Notifications 1.2 of freedesktop.org."""
import asyncio

from dbus_next.aio import MessageBus
from dbus_next.service import ServiceInterface, method


class Notifications(ServiceInterface):
    def __init__(self):
        super().__init__("org.freedesktop.Notifications")
        self.shown = 0

    @method()
    def Notify(self, program: "s", replaces: "u", icon: "s", title: "s", text: "s", actions: "as", hints: "a{sv}", timeout: "i") -> "u":
        self.shown += 1
        print(f"{program}: {title}\n{text}", flush=True)
        return self.shown


async def main():
    bus = await MessageBus().connect()
    bus.export("/org/freedesktop/Notifications", Notifications())
    await bus.request_name("org.freedesktop.Notifications")
    print("ready", flush=True)
    await bus.wait_for_disconnect()


asyncio.run(main())
