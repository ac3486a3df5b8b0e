#!/usr/bin/env python3
"""shapes.py FOLDER < RECORDS: checks what the tests got as JSON against the
schemas of the folder. A member that no schema names is wrong as well here,
though readers have to expect it of a later version."""
import glob
import json
import os
import sys

import jsonschema

folder = sys.argv[1]
schemas = {}
for path in glob.glob(os.path.join(folder, "*.json")):
    with open(path, encoding="utf-8") as file:
        schemas[os.path.basename(path)] = json.load(file)


def close(node):
    """Objects have the members that are named, and no others."""
    if isinstance(node, list):
        for one in node:
            close(one)
    if not isinstance(node, dict):
        return
    if "properties" in node:
        node.setdefault("additionalProperties", False)
    for one in node.values():
        close(one)


def load(uri):
    return schemas[os.path.basename(uri)]


wrong = 0
validators = {}
for name, schema in schemas.items():
    jsonschema.Draft202012Validator.check_schema(schema)
    close(schema)
    base = schema.pop("$id")
    resolver = jsonschema.RefResolver(base, schema, handlers={"https": load})
    validators[name] = jsonschema.Draft202012Validator(
        schema, resolver=resolver)
seen = {}
for record in map(json.loads, sys.stdin):
    name = record["schema"] + ".json"
    seen[name] = seen.get(name, 0) + 1
    if name not in validators:
        print(f"no schema {name}: {record['line']}")
        wrong += 1
        continue
    error = jsonschema.exceptions.best_match(
        validators[name].iter_errors(record["document"]))
    if error:
        where = "/".join(str(part) for part in error.absolute_path)
        print(f"{name}: {record['line']}\n    {where}: {error.message}")
        wrong += 1
print(f"documents: {sum(seen.values())} of {len(seen)} kinds were checked "
      f"against their schemas, {wrong} are wrong")
sys.exit(1 if wrong else 0)
