"""Whether dependencies are what deny.toml lets them be: licences, sources, versions beside each other."""

import collections
import json
import subprocess
import sys
import tomllib

# Crates that stand in the lock file in more than one version: so many are known.
DUPLICATES = 42

rules = tomllib.load(open("deny.toml", "rb"))
asked = ["cargo", "metadata", "--format-version", "1", "--locked"]
packages = json.loads(subprocess.run(asked, check=True, capture_output=True).stdout)["packages"]
allowed = set(rules["licenses"]["allow"])
registries = {f"registry+{url}" for url in rules["sources"]["allow-registry"]}


def holds(expression):
    """An SPDX expression: OR of ANDs, with parentheses around either."""
    words = expression.replace("/", " OR ").replace("(", " ( ").replace(")", " ) ").split()

    def either(at):
        value, at = both(at)
        while at < len(words) and words[at] == "OR":
            other, at = both(at + 1)
            value = value or other
        return value, at

    def both(at):
        value, at = one(at)
        while at < len(words) and words[at] == "AND":
            other, at = one(at + 1)
            value = value and other
        return value, at

    def one(at):
        if words[at] == "(":
            value, at = either(at + 1)
            return value, at + 1
        name, at = words[at], at + 1
        if at < len(words) and words[at] == "WITH":
            name, at = f"{name} WITH {words[at + 1]}", at + 2
        return name in allowed, at

    return either(0)[0]


wrong = []
versions = collections.defaultdict(set)
for package in packages:
    name = f"{package['name']} {package['version']}"
    versions[package["name"]].add(package["version"])
    if package["source"] is None:
        continue
    if package["source"] not in registries:
        wrong.append(f"{name} comes from {package['source']}")
    if not package["license"] or not holds(package["license"]):
        wrong.append(f"{name} has the licence {package['license']}")
many = sorted(name for name, found in versions.items() if len(found) > 1)
if len(many) > DUPLICATES:
    wrong.append(f"{len(many)} crates are there in more than one version, {DUPLICATES} were: {', '.join(many)}")
print("\n".join(wrong) or f"{len(packages)} packages are as deny.toml says; {len(many)} in more than one version")
sys.exit(bool(wrong))
