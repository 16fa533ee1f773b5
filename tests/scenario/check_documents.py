#!/usr/bin/env python3
"""check_documents.py SCHEMA: reads lines "COMMAND<TAB>DOCUMENT" and holds each document against the schema of its
command; tells what does not fit, and which commands of the schema no document was of."""
import json
import sys

import jsonschema

schema = json.load(open(sys.argv[1], encoding="utf-8"))
jsonschema.Draft202012Validator.check_schema(schema)
commands = schema["$defs"]["commands"]
validators = {
    name: jsonschema.Draft202012Validator({"$ref": f"#/$defs/commands/{name}", "$defs": schema["$defs"]})
    for name in commands
}
seen, bad = set(), 0
for line in sys.stdin:
    command, _, text = line.rstrip("\n").partition("\t")
    if command not in validators:
        print(f"{command}: the schema does not know this command: {text[:200]}")
        bad += 1
        continue
    try:
        document = json.loads(text)
    except ValueError as problem:
        print(f"{command}: no JSON ({problem}): {text[:200]}")
        bad += 1
        continue
    if set(document) != {"error"}:
        seen.add(command)
    errors = sorted(validators[command].iter_errors(document), key=lambda one: one.path)
    if errors:
        print(f"{command}: {jsonschema.exceptions.best_match(errors).message[:300]}\n  in {text[:300]}")
        bad += 1
for command in sorted(set(commands) - seen):
    print(f"{command}: no document was seen but errors")
    bad += 1
sys.exit(1 if bad else 0)
