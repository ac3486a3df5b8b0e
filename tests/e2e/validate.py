#!/usr/bin/env python3
"""validate.py SCHEMA FILE: checks a JSON document against a schema whose
references lead to files beside it. Says what is wrong, exit status 1."""
import json
import os
import sys

import jsonschema

schema_path, document_path = sys.argv[1:3]
with open(schema_path, encoding="utf-8") as file:
    schema = json.load(file)
with open(document_path, encoding="utf-8") as file:
    document = json.load(file)
base = "file://" + os.path.abspath(schema_path)


def load(uri):
    """Schemas refer to each other by names of files in one folder."""
    name = os.path.basename(uri.split("#")[0])
    with open(os.path.join(os.path.dirname(schema_path), name),
              encoding="utf-8") as found:
        return json.load(found)


resolver = jsonschema.RefResolver(
    base, schema, handlers={"file": load, "https": load, "http": load})
# The schemas name themselves by addresses that nobody needs to reach.
schema.pop("id", None)
schema.pop("$id", None)
errors = list(jsonschema.Draft4Validator(schema, resolver=resolver)
              .iter_errors(document))
for error in errors:
    path = "/".join(str(part) for part in error.absolute_path)
    print(f"{document_path}: {path}: {error.message}", file=sys.stderr)
sys.exit(1 if errors else 0)
