"""The PostgreSQL of this machine, for the demo and the tests."""

from __future__ import annotations

import subprocess
import sys

from tests.support import own_cluster


async def test_a_number_that_is_another_process_s_by_now_is_no_server_and_is_not_stopped() -> None:
    async with own_cluster("stale") as server:
        assert server.running_port() == server.port
        file = server.data / "postmaster.pid"
        left_behind = file.read_text().splitlines()
        server.stop("immediate")
        with subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE) as other:
            try:
                file.write_text("\n".join([str(other.pid), *left_behind[1:]]))
                assert server.running_port() is None
                server.stop("immediate")
                assert other.poll() is None
            finally:
                other.kill()
                file.unlink()
