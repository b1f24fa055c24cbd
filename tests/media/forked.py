"""What tests/media/test_forks.py has forked: does what its first argument says."""

import os
import resource
import sys
import time


def main() -> None:
    what = sys.argv[1]
    if what == "echo":
        for line in sys.stdin:
            print(line.strip().upper(), os.getpid(), flush=True)
    elif what == "open":  # files that are open, but the one that lists them
        print(sorted(int(x) for x in os.listdir("/proc/self/fd"))[:-1], flush=True)
    elif what == "limit":
        resource.setrlimit(resource.RLIMIT_AS, (1 << 30, 1 << 30))
        print(len(bytearray(3 << 30)))
    elif what == "exit":
        sys.exit(int(sys.argv[2]))
    elif what == "fault":
        raise ValueError("of its own")
    else:
        time.sleep(600)
