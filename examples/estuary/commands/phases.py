"""Phases for Python: `with phase("merge"): …` in any thread or process, and `counter("readings", 1000)`."""
import contextlib, json, os, time

def _line(**fields):
    with open(os.environ.get("ANTCREW_PHASES", os.devnull), "a") as file: file.write(json.dumps(fields) + "\n")

@contextlib.contextmanager
def phase(name, worker=0):
    begin = time.monotonic()
    yield
    _line(phase=name, begin=begin, end=time.monotonic(), worker=worker)

def counter(name, more): _line(counter=name, add=more)
