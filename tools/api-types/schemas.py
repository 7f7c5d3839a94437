#!/usr/bin/env python3
"""Of the API's description, read from standard input, only the shapes: what the console's types are made from."""

import json
import sys

all_of = json.load(sys.stdin)
kept = {
    "openapi": all_of["openapi"],
    "info": {"title": all_of["info"]["title"], "version": all_of["info"]["version"]},
    "paths": {},
    "components": {"schemas": all_of["components"]["schemas"]},
}
json.dump(kept, sys.stdout, indent=1, sort_keys=True, ensure_ascii=False)
