"""A record written by a study program fits the published schema, and the schema notices when one does not.

Usage: check_schema.py SCHEMA STUDY_PROGRAM
"""
import copy, json, os, subprocess, sys, tempfile
import jsonschema

schema = json.load(open(sys.argv[1]))
jsonschema.Draft7Validator.check_schema(schema)
with tempfile.TemporaryDirectory() as folder:
    saved = os.path.join(folder, "record.json")
    subprocess.run([sys.argv[2], "--sizes", "100,2k", "--rounds", "2", "--workers", "1,2", "--save", saved, "--quiet"],
                   stdout=subprocess.DEVNULL)
    record = json.load(open(saved))
    confirmed = os.path.join(folder, "confirmed.json")
    subprocess.run([sys.argv[2], "--sizes", "2k", "--rounds", "7", "--workers", "1,2", "--save", confirmed, "--quiet"],
                   stdout=subprocess.DEVNULL)
    jsonschema.validate(json.load(open(confirmed)), schema)

jsonschema.validate(record, schema)

def must_fail(change, why):
    damaged = copy.deepcopy(record)
    change(damaged)
    try:
        jsonschema.validate(damaged, schema)
    except jsonschema.ValidationError:
        return
    sys.exit(f"the schema accepts a record {why}")

must_fail(lambda r: r.pop("machine"), "without a machine")
must_fail(lambda r: r["cells"][0].update(workers=0), "with no workers")
must_fail(lambda r: r["cells"][0]["trials"].pop("wall_s"), "without the trials' times")
must_fail(lambda r: r["cells"][0]["trials"]["times_s"].append(3), "with a time that is no list")
must_fail(lambda r: r.update(format="other"), "of another format")

# Every field that is written is described: none is missing from the schema at any level.
def undescribed(value, part, path):
    part = schema["definitions"][part["$ref"].split("/")[-1]] if "$ref" in part else part
    if isinstance(value, dict) and "properties" in part:
        for key, inner in value.items():
            if key not in part["properties"]:
                sys.exit(f"{path}/{key} is not described by the schema")
            undescribed(inner, part["properties"][key], f"{path}/{key}")
    if isinstance(value, list) and "items" in part:
        for inner in value:
            undescribed(inner, part["items"], path + "/…")
undescribed(record, schema, "")
print("the record fits its schema")
