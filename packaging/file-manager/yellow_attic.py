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


# The same for what lies in a mounted folder; what is only on the service has none.
EMBLEMS_AT_HAND = {
    "here": "emblem-default",
    "on its way": "emblem-synchronizing",
    "waiting to be sent up": "emblem-synchronizing",
    "in trouble": "emblem-important",
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


def at_hand(path):
    """How what lies in a mounted folder is: its state, why, and whether it is kept here. None if it lies in none."""

    def told(name):
        try:
            return os.getxattr(path, "user.yattic." + name).decode()
        except (OSError, AttributeError):
            return None

    state = told("state")
    return {"state": state, "why": told("why"), "kept": told("keep") == "yes"} if state else None


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
        here = at_hand(path) if path else None
        if here:
            if here["kept"]:
                file.add_emblem("emblem-favorite")
            if here["state"] in EMBLEMS_AT_HAND and not os.path.isdir(path):
                file.add_emblem(EMBLEMS_AT_HAND[here["state"]])
            return
        told = mark(path) if path else None
        if told and told["state"] in EMBLEMS:
            file.add_emblem(EMBLEMS[told["state"]])

    def get_file_items(self, *arguments):
        """The acts on one file: the files come last, whatever the version of the interface."""
        files = arguments[-1]
        path = path_of(files[0]) if len(files) == 1 else None
        here = at_hand(path) if path else None
        told = None if here or not path else mark(path)
        if not here and (not told or told["state"] == "none"):
            return []

        def item(name, label, tip, does):
            made = Manager.MenuItem(name=f"YellowAttic::{name}", label=label, tip=tip)
            made.connect("activate", lambda _item: does())
            return made

        items = [
            item("link", "Copy a link", f"Makes a link to {told['place'] if told else path}", lambda: copy_link(path)),
            item("history", "Earlier versions", "Opens its history", lambda: run("history", "--browser", path)),
        ]
        if here:
            if not here["kept"]:
                tip = "Fetches it, and whatever comes into it later"
                items.append(item("keep", "Keep on this computer", tip, lambda: run("keep", path)))
            if here["kept"] or here["state"] in ("here", "partly here"):
                tip = "Its bytes stay on the service only, until they are asked for"
                items.append(item("release", "Give its room back", tip, lambda: run("release", path)))
            if here["why"]:
                items.append(item("why", "What is with it", here["why"], lambda: run("sync", "page")))
        elif told["state"] == "twice":
            items.append(item("twice", "Two changed it: choose", told["why"], lambda: run("sync", "page")))
        return items

    def get_background_items(self, *_arguments):
        """None for the folder itself."""
        return []
