"""Changes the catalogue of a service that is stopped: its path, and the statements."""

import sqlite3
import sys

with sqlite3.connect(sys.argv[1]) as db:
    db.executescript(sys.argv[2])
