#!/usr/bin/python3
"""Holds what the tool prints with --json against the schemas as they are installed, each by itself.

    schema_check.py SCHEMAS FILE...     each FILE holds one object, or one a line (*.jsonl)
"""
import json
import pathlib
import sys

import jsonschema

schemas = {}
for path in sorted(pathlib.Path(sys.argv[1]).glob("*.json")):
    schema = json.loads(path.read_text())
    jsonschema.Draft202012Validator.check_schema(schema)
    schemas[path.name] = schema
seen, wrong, objects = set(), 0, 0
for name in sys.argv[2:]:
    text = pathlib.Path(name).read_text()
    for part in text.splitlines() if name.endswith(".jsonl") else [text]:
        found = json.loads(part)
        kind = found["schema"].split("/")[0].removeprefix("nuvrat.")
        schema = schemas[kind + ".json"]
        validator = jsonschema.Draft202012Validator(schema)  # no other file is known to it
        seen.add(kind)
        objects += 1
        for error in validator.iter_errors(found):
            wrong += 1
            print(f"{name}: {error.json_path}: {error.message[:200]}")
        # A schema that takes anything proves nothing: one more member must be too much.
        if validator.is_valid({**found, "surprise": 1}):
            wrong += 1
            print(f"{name}: the schema of {kind} takes members that it doesn't describe")
unseen = {kind.removesuffix(".json") for kind in schemas} - seen
if unseen:
    wrong += 1
    print("no output was held against:", ", ".join(sorted(unseen)))
print(f"{objects} objects of {len(seen)} kinds")
sys.exit(1 if wrong else 0)
