#!/usr/bin/python3
"""Tide heights at so many soundings: their sum, in one of several ways.

Usage: tides.py SOUNDINGS WAY WORKERS     WAY: sequential, threads, processes, shared"""
import math, multiprocessing, sys, threading
from multiprocessing import shared_memory
from phases import counter, phase

CONSTITUENTS = [(2.0, 0.001), (0.3, 0.017), (0.1, 0.23), (0.05, 0.71)]

def height(i):
    return sum(amplitude * math.sin(i * speed) for amplitude, speed in CONSTITUENTS)

def heights(first, last, worker=0):
    with phase("heights", worker):
        return [height(i) for i in range(first, last)]

def heights_of(part): return heights(*part)

def parts(n, workers):
    return [(n * w // workers, n * (w + 1) // workers, w) for w in range(workers)]

def by_threads(n, workers):
    found = [None] * workers
    def work(first, last, w): found[w] = heights(first, last, w)
    threads = [threading.Thread(target=work, args=part) for part in parts(n, workers)]
    for thread in threads: thread.start()
    for thread in threads: thread.join()
    with phase("gather"):
        return math.fsum(h for part in found for h in part)

def by_processes(n, workers):
    with multiprocessing.Pool(workers) as gang:
        found = gang.map(heights_of, parts(n, workers))
    with phase("gather"):
        return math.fsum(h for part in found for h in part)

def fill(name, first, last, worker):
    memory = shared_memory.SharedMemory(name=name)
    column = memory.buf.cast("d")
    with phase("heights", worker):
        for i in range(first, last): column[i] = height(i)
    column.release()
    memory.close()

def in_shared_memory(n, workers):
    memory = shared_memory.SharedMemory(create=True, size=8 * n)
    try:
        processes = [multiprocessing.Process(target=fill, args=(memory.name, *part)) for part in parts(n, workers)]
        for process in processes: process.start()
        for process in processes: process.join()
        with phase("gather"):
            column = memory.buf.cast("d")
            total = math.fsum(column[i] for i in range(n))
            column.release()
            return total
    finally:
        memory.close()
        memory.unlink()

if __name__ == "__main__":
    soundings, way, workers = int(sys.argv[1]), sys.argv[2], int(sys.argv[3])
    ways = {"sequential": lambda n, _: math.fsum(heights(0, n)), "threads": by_threads,
            "processes": by_processes, "shared": in_shared_memory}
    counter("soundings", soundings)
    print(f"{ways[way](soundings, workers):.9f}")
