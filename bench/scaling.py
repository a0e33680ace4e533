"""Simulate searches over an index that is spread over machines, and compute what building it takes.

    .venv/bin/python bench/scaling.py [--passages 100] [--machines 4 8 16] [--rates 1 5 20]

Nothing is indexed here: the constants are measured by other benchmarks (`docs/performance.md`). An
index of as many million passages as asked for has a shard for each million. Every search visits
every shard, at the replica whose machine has least to do, and is done when the slowest has
answered. Machines are queues with a server for each processor; searches arrive at random (Poisson).
"""

from __future__ import annotations

import argparse
import heapq
import math

import numpy as np
import numpy.typing as npt

#: Of a million passages: GB of segments, of vectors in them, and of records.
SEGMENTS_GB, VECTORS_GB, RECORDS_GB = 3.24, 1.54, 1.48
#: GB in memory of a million passages that are searched all the time.
RESIDENT_GB = 1.28
#: Seconds of a processor to search a million passages by keywords and vectors: median, and the
#: 95th percentile.
SHARD_MEDIAN, SHARD_P95 = 0.0081, 0.0262
#: Seconds to embed a question, merge, and answer over HTTP.
AROUND = 0.030
#: Seconds of a processor for a passage: reading and splitting; embedding it with its four windows,
#: or alone; and the service's own part, which one thread does.
READ, EMBED, EMBED_ALONE, OWN = 0.017, 0.155, 0.034, 0.007


def simulate(
    rng: np.random.Generator, shards: int, machines: int, cores: int, replicas: int, rate: float
) -> npt.NDArray[np.float64]:
    """Return seconds of each of some searches.

    Args:
        rng: The source of chance.
        shards: Parts of the index, each visited by each search.
        machines: Machines that serve them.
        cores: Processors of each.
        replicas: Copies of each shard, on different machines.
        rate: Searches a second.
    """
    sigma = math.log(SHARD_P95 / SHARD_MEDIAN) / 1.645
    count = max(300, int(20 * rate))
    arrivals = np.cumsum(rng.exponential(1 / rate, count))
    free = [[0.0] * cores for _ in range(machines)]
    homes = [[(shard + copy) % machines for copy in range(replicas)] for shard in range(shards)]
    seconds = np.empty(count)
    for number, arrival in enumerate(arrivals):
        work = rng.lognormal(math.log(SHARD_MEDIAN), sigma, shards)
        done = arrival
        for shard, part in enumerate(work):
            queue = min((free[home] for home in homes[shard]), key=lambda times: times[0])
            finished = max(arrival, queue[0]) + part
            heapq.heapreplace(queue, finished)
            done = max(done, finished)
        seconds[number] = done - arrival + AROUND
    # The first tenth finds empty machines.
    return seconds[count // 10 :]


def building(passages: float) -> None:
    """Print what building an index of so many passages takes."""
    print(f"\nBuilding, {passages / 1e6:,.0f} million passages")
    for name, embed in (("with sentence windows", EMBED), ("without", EMBED_ALONE)):
        hours = passages * (READ + embed) / 3600
        useful = (READ + embed) / OWN
        print(
            f"  {name}: {hours:,.0f} processor hours on the cluster;"
            f" more than {useful:.0f} processors are idle at times"
        )
    print(f"  the service's own part, one after the other: {passages * OWN / 86400:.1f} days")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--passages", type=int, default=100, help="millions")
    parser.add_argument("--machines", type=int, nargs="+", default=[4, 8, 16])
    parser.add_argument("--cores", type=int, default=16)
    parser.add_argument("--replicas", type=int, default=2)
    parser.add_argument("--rates", type=float, nargs="+", default=[1, 5, 20, 50, 100])
    options = parser.parse_args()
    shards = options.passages
    print(
        f"{shards} million passages: {shards * SEGMENTS_GB:,.0f} GB of segments"
        f" ({shards * VECTORS_GB:,.0f} GB of vectors), {shards * RECORDS_GB:,.0f} GB of records,"
        f" {shards * RESIDENT_GB:,.0f} GB of memory for each copy"
    )
    rng = np.random.default_rng(1)
    for machines in options.machines:
        memory = shards * RESIDENT_GB * options.replicas / machines
        print(f"\n{machines} machines of {options.cores} processors, {memory:.0f} GB each")
        for rate in options.rates:
            load = rate * shards * SHARD_MEDIAN * 1.29 / (machines * options.cores)
            if load >= 1:
                print(f"  {rate:5.0f} searches/s: more than they can do")
                continue
            seconds = simulate(rng, shards, machines, options.cores, options.replicas, rate)
            median, slow = np.percentile(seconds, [50, 95])
            print(
                f"  {rate:5.0f} searches/s: median {1000 * median:4.0f} ms, 95th percentile"
                f" {1000 * slow:4.0f} ms, processors {100 * load:.0f} % busy"
            )
    building(shards * 1e6)


if __name__ == "__main__":
    main()
