"""Marks and acts of Yellow Attic in a file manager.

It uses the extension interface that Nautilus, Nemo and Caja share (python3-nautilus, python3-nemo, python3-caja), and asks
`yattic sync run` of the same account over its socket. It changes nothing by itself: every act is a command of yattic.
`yattic sync install --file-manager` puts it where it belongs.
"""

import json
import os
import socket
import subprocess
import threading
import urllib.parse
from http.client import HTTPConnection

import gi

for _name in ("Nautilus", "Nemo", "Caja"):
    try:
        gi.require_version(_name, {"Nautilus": "4.0", "Nemo": "3.0", "Caja": "2.0"}[_name])
    except ValueError:
        if _name == "Nautilus":
            try:
                gi.require_version(_name, "3.0")
            except ValueError:
                continue
        else:
            continue
    Manager = getattr(__import__("gi.repository", fromlist=[_name]), _name)
    break
else:
    raise ImportError("no file manager that this extension knows is installed")

from gi.repository import GObject  # noqa: E402

YATTIC = "@YATTIC@"

# Emblems of the freedesktop Icon Naming Specification, and what most themes have besides.
EMBLEMS = {
    "same": "emblem-default",
    "waiting": "emblem-synchronizing",
    "held": "emblem-important",
    "twice": "emblem-important",
}


def pairs_folder():
    """Where yattic keeps what it knows of pairs."""
    home = os.environ.get("YATTIC_HOME")
    if home:
        return os.path.join(home, "pairs")
    state = os.environ.get("XDG_STATE_HOME") or os.path.expanduser("~/.local/state")
    return os.path.join(state, "yattic", "pairs")


class Line(HTTPConnection):
    """HTTP over the socket."""

    def __init__(self):
        super().__init__("here", timeout=1)

    def connect(self):
        self.sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self.sock.settimeout(self.timeout)
        # By its folder's handle: the name of a socket may only be short.
        folder = os.open(pairs_folder(), os.O_RDONLY | os.O_DIRECTORY)
        try:
            self.sock.connect(f"/proc/self/fd/{folder}/socket")
        finally:
            os.close(folder)


def mark(path):
    """How a file is: its state, why, and what it is kept the same as. None if nobody can tell."""
    line = Line()
    try:
        line.request("GET", "/here/mark?" + urllib.parse.urlencode({"path": path}))
        answer = line.getresponse()
        return json.load(answer) if answer.status == 200 else None
    except (OSError, ValueError):
        return None
    finally:
        line.close()


def path_of(file):
    """Of a local file."""
    uri = urllib.parse.urlparse(file.get_uri())
    return urllib.parse.unquote(uri.path) if uri.scheme == "file" else None


def run(*arguments):
    """Begins a command of yattic, and does not wait for it."""
    quiet = subprocess.DEVNULL
    subprocess.Popen([YATTIC, *arguments], stdin=quiet, stdout=quiet, stderr=quiet, start_new_session=True)


def copy_link(path):
    """Makes a link, and puts its address on the clipboard. Where a password is wanted first, the console opens."""

    def work():
        done = subprocess.run([YATTIC, "--quiet", "link", "new", path], stdin=subprocess.DEVNULL, capture_output=True, text=True)
        if done.returncode == 0:
            from gi.repository import GLib

            GLib.idle_add(to_clipboard, done.stdout.strip().splitlines()[0])

    threading.Thread(target=work, daemon=True).start()


def to_clipboard(text):
    """Puts a text on the clipboard."""
    from gi.repository import Gdk

    display = Gdk.Display.get_default()
    if hasattr(display, "get_clipboard"):
        display.get_clipboard().set(text)
    else:
        from gi.repository import Gtk

        clipboard = Gtk.Clipboard.get(Gdk.SELECTION_CLIPBOARD)
        clipboard.set_text(text, -1)
        clipboard.store()
    return False


class YellowAttic(GObject.GObject, Manager.InfoProvider, Manager.MenuProvider):
    """What the file manager asks."""

    def update_file_info(self, file):
        """Marks a file or folder that lies in a pair."""
        path = path_of(file)
        told = mark(path) if path else None
        if told and told["state"] in EMBLEMS:
            file.add_emblem(EMBLEMS[told["state"]])

    def get_file_items(self, *arguments):
        """The acts on one file: the files come last, whatever the version of the interface."""
        files = arguments[-1]
        path = path_of(files[0]) if len(files) == 1 else None
        told = mark(path) if path else None
        if not told or told["state"] == "none":
            return []

        def item(name, label, tip, does):
            made = Manager.MenuItem(name=f"YellowAttic::{name}", label=label, tip=tip)
            made.connect("activate", lambda _item: does())
            return made

        items = [
            item("link", "Copy a link", f"Makes a link to {told['place']}", lambda: copy_link(path)),
            item("history", "Earlier versions", "Opens its history", lambda: run("history", "--browser", path)),
        ]
        if told["state"] == "twice":
            items.append(item("twice", "Two changed it: choose", told["why"], lambda: run("sync", "page")))
        return items

    def get_background_items(self, *_arguments):
        """None for the folder itself."""
        return []
