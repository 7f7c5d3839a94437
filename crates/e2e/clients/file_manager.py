"""Stands in for a file manager: loads the extension from a folder, and asks it about one file as file managers do."""

import json
import sys
import types


class GObject:
    """What extensions derive from."""


class Item:
    """A line of a menu."""

    def __init__(self, name, label, tip):
        self.name, self.label, self.tip = name, label, tip

    def connect(self, _signal, does):
        self.does = does


class File:
    """A file as the file manager knows it."""

    def __init__(self, path):
        self.path, self.emblems = path, []

    def get_uri(self):
        from urllib.parse import quote

        return "file://" + quote(self.path)

    def add_emblem(self, name):
        self.emblems.append(name)


def module(name, **holds):
    made = types.ModuleType(name)
    made.__dict__.update(holds)
    sys.modules[name] = made
    return made


repository = module(
    "gi.repository",
    Nautilus=types.SimpleNamespace(InfoProvider=type("Info", (), {}), MenuProvider=type("Menu", (), {}), MenuItem=Item),
    GObject=types.SimpleNamespace(GObject=GObject),
)
module("gi", require_version=lambda _name, _version: None, repository=repository)

sys.path.insert(0, sys.argv[1])
import yellow_attic  # noqa: E402

asked = File(sys.argv[2])
extension = yellow_attic.YellowAttic()
extension.update_file_info(asked)
items = extension.get_file_items([asked])
print(json.dumps({"emblems": asked.emblems, "items": [item.label for item in items]}))
