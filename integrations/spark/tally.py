"""Tallies access logs on Apache Spark: `ravel tally` for each part, merged by the engine.

    spark-submit tally.py --ravel ravel --rules edge.ravel --partial all.tally LOG…
    ravel tally --merge all.tally

Each part is a range of bytes that a task reads by itself: a line belongs to the range in which it
begins. Compressed files are one part each. The files, the rules with the built folder, and `ravel`
have the same paths on every machine.
"""

import argparse
import os
import subprocess
import sys
import tempfile

PACKED = (b"\x1f\x8b", b"\x28\xb5\x2f\xfd")


def is_packed(path):
    """Whether a file is compressed, so that there are no ranges of it."""
    with open(path, "rb") as file:
        return file.read(4).startswith(PACKED)


def parts_of(path, length):
    """The ranges of a file, each as `START+LENGTH`; none where it is read as a whole."""
    if is_packed(path):
        return [(path, None)]
    size = os.path.getsize(path)
    starts = range(0, max(size, 1), length)
    return [(path, f"{start}+{min(length, size - start)}") for start in starts]


def run(command):
    """Runs a command; what it says is the error if it fails."""
    done = subprocess.run(command, capture_output=True, check=False)
    if done.returncode != 0:
        said = done.stderr.decode("utf-8", "replace").strip()
        raise RuntimeError(f"{' '.join(command)}: {said}")
    return done.stdout


def partial_of(base, more):
    """The partial result of `ravel tally` with these arguments."""
    with tempfile.TemporaryDirectory() as folder:
        result = os.path.join(folder, "part.tally")
        run([*base, *more, "--threads", "1", "--partial", result])
        with open(result, "rb") as file:
            return file.read()


def counted(base, part):
    """What is counted of a part."""
    path, length = part
    return partial_of(base, [path] if length is None else [path, "--range", length])


def merged(base, one, other):
    """Two partial results as one: in any order, the result is the same."""
    with tempfile.TemporaryDirectory() as folder:
        paths = [os.path.join(folder, name) for name in ("one.tally", "other.tally")]
        for path, content in zip(paths, (one, other)):
            with open(path, "wb") as file:
                file.write(content)
        return partial_of(base, ["--merge", *paths])


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("logs", nargs="+", metavar="LOG")
    parser.add_argument("--ravel", default="ravel", help="the command, as every machine has it")
    parser.add_argument("--rules", default="edge.ravel", help="the rules file")
    parser.add_argument("--partial", required=True, help="the file that the result is written to")
    parser.add_argument("--part", type=int, default=256 << 20, help="the bytes of a part")
    parser.add_argument("--option", action="append", default=[], help="given to `ravel tally`, as --option=--no-query")
    arguments = parser.parse_args()
    base = [arguments.ravel, "--rules", os.path.abspath(arguments.rules), "tally", *arguments.option]
    logs = [os.path.abspath(log) for log in arguments.logs]
    # What is no log is found here, once, and not by every task.
    for log in logs:
        if not is_packed(log):
            partial_of(base, [log, "--range", "0+1"])
    parts = [part for log in logs for part in parts_of(log, arguments.part)]

    from pyspark.sql import SparkSession

    session = SparkSession.builder.appName("ravel tally").getOrCreate()
    try:
        tasks = session.sparkContext.parallelize(parts, max(1, len(parts)))
        counts = tasks.map(lambda part: counted(base, part))
        result = counts.treeReduce(lambda one, other: merged(base, one, other))
    finally:
        session.stop()
    beside = f"{arguments.partial}.{os.getpid()}"
    with open(beside, "wb") as file:
        file.write(result)
    os.replace(beside, arguments.partial)


if __name__ == "__main__":
    sys.exit(main())
