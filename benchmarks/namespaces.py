"""Machines made of network namespaces: ranks that reach one another by TCP through a switch of
limited bandwidth. It needs root, ``ip`` and ``tc``.
"""

from __future__ import annotations

import stat
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["launcher_over"]

BRIDGE, PREFIX, NET = "vsbr", "vs", "10.9.0"
ENTER = """#!/bin/bash
while [[ "$1" == -* ]]; do shift; done
host="$1"; shift
exec ip netns exec "%s${host##*.}" sh -c "$*"
"""
TCP = {"UCX_TLS": "tcp,self", "MPIR_CVAR_NOLOCAL": "1"}


def _do(command: str, *, check: bool = True) -> None:
    subprocess.run(command.split(), check=check, capture_output=True, text=True)


def _clear(count: int) -> None:
    for i in range(1, count + 1):
        _do(f"ip netns del {PREFIX}{i}", check=False)
        _do(f"ip link del ve{i}", check=False)
    _do(f"ip link del {BRIDGE}", check=False)


@contextmanager
def launcher_over(count: int, rate: str, mpiexec: str) -> Iterator[tuple[list[str], dict]]:
    """The command that starts one rank in each of so many namespaces, and its environment.

    Parameters
    ----------
    count : int
    rate : str
        Of each link, as ``tc`` has it: ``1gbit``.
    mpiexec : path
    """
    _clear(count)
    with tempfile.TemporaryDirectory() as folder:
        enter = Path(folder) / "enter"
        enter.write_text(ENTER % PREFIX)
        enter.chmod(enter.stat().st_mode | stat.S_IXUSR)
        _do(f"ip link add {BRIDGE} type bridge")
        _do(f"ip link set {BRIDGE} up")
        try:
            for i in range(1, count + 1):
                space = f"{PREFIX}{i}"
                _do(f"ip netns add {space}")
                _do(f"ip link add ve{i} type veth peer name eth0 netns {space}")
                _do(f"ip link set ve{i} master {BRIDGE} up")
                _do(f"ip -n {space} addr add {NET}.{i}/24 dev eth0")
                for device in ("eth0", "lo"):
                    _do(f"ip -n {space} link set {device} up")
                _do(f"tc qdisc replace dev ve{i} root tbf rate {rate} burst 256kb latency 50ms")
            hosts = ",".join(f"{NET}.{i}" for i in range(1, count + 1))
            yield (
                [
                    *("ip", "netns", "exec", f"{PREFIX}1", mpiexec, "-launcher", "ssh"),
                    *("-launcher-exec", str(enter), "-localhost", f"{NET}.1", "-iface", "eth0"),
                    *("-hosts", hosts, "-n", str(count), "-ppn", "1"),
                ],
                dict(TCP),
            )
        finally:
            _clear(count)
