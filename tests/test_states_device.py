"""A transfer as a state machine between two faulty drives behind real block devices, by the real program.

Whatever the drives do and whenever it is killed: the old drive is unchanged, a success is one on the medium, and once the
faults are gone a resume or two ends with the whole copy.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, rule

from tests.drives import LINUX, MIB, Part, blank, data_hash, linux_files, make_drive, run
from tests.faulty import FaultyDrive

_LONG = bool(os.environ.get("NEOGENESIS_LONG"))
_LONGEST_SECONDS = 60.0
places = st.integers(0, 47).map(lambda n: n * MIB)


class DeviceTransfers(RuleBasedStateMachine):
    @initialize(intent=st.sampled_from(["exact", "replace"]))
    def begin(self, intent: str) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="neogenesis-device-"))
        image = make_drive(self.folder / "old.img", 48, [Part(40, LINUX, "ext4", "root", linux_files())])
        with image.open("r+b") as file:
            file.seek(45 * MIB)
            file.write(random.Random(3).randbytes(2 * MIB))
        self.before = data_hash(image)
        self.old = FaultyDrive(image, read_only=True)
        self.new = FaultyDrive(blank(self.folder / "new.img", 48))
        self.intent, self.plan = intent, self.folder / "p.json"
        status = self.call(
            "plan", self.old.device, self.new.device, "--intent", intent, "--grow", "none", "-o", self.plan
        )
        assert status == 0

    def call(self, *arguments: object, seconds: float | None = None) -> int:
        process = subprocess.Popen(
            [sys.executable, "-m", "neogenesis", *map(str, arguments)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            env={**os.environ, "PYTHONFAULTHANDLER": "1"},
        )
        try:
            _, self.said = process.communicate(timeout=seconds or _LONGEST_SECONDS)
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL if seconds else signal.SIGABRT)  # the latter tells where it hangs
            _, self.said = process.communicate()
            assert seconds, f"{arguments} does not end\n{self.said.decode()}"
        return process.returncode

    def transfer(self, seconds: float | None = None, refusable: bool = False) -> int:
        """With the faults as they are; afterwards both drives are well again.

        `refusable`: the fault may make the new drive look like another one, which is refused before anything is written.
        """
        held = data_hash(self.new.image)
        status = self.call("transfer", self.plan, "--confirm", self.new.device[-4:], "--resume", seconds=seconds)
        self.old.tell(unreadable=[], dead=False, dies_after_reads=-1)
        self.new.tell(unreadable=[], dropped=[], refused=[], worn=[], dead=False, flushes_fail=0, skip_flushes=0)
        assert status in ((0, 3, 5, 6, -9) if refusable else (0, 5, 6, -9)), self.said.decode()
        assert status != 3 or data_hash(self.new.image) == held
        assert data_hash(self.old.image) == self.before
        if status == 0:
            self.judge()
        return status

    def judge(self) -> None:
        if self.intent == "exact":
            assert self.new.image.read_bytes() == self.old.image.read_bytes()
        else:
            assert self.call("verify", self.plan, self.new.device) == 0
            assert "No errors" in run("sfdisk", "--verify", self.new.device)

    @rule(reads=st.integers(0, 90))
    def the_old_drive_dies(self, reads: int) -> None:
        self.old.tell(dies_after_reads=reads)
        self.transfer()

    @rule(at=places, length=st.sampled_from([512, MIB]))
    def writes_are_refused(self, at: int, length: int) -> None:
        self.new.tell(refused=[(at, at + length)])
        self.transfer()

    @rule(at=places, length=st.sampled_from([512, 4096, MIB]))
    def writes_never_arrive(self, at: int, length: int) -> None:
        self.new.tell(dropped=[(at, at + length)])
        self.transfer()

    @rule(at=places)
    def the_new_drive_forgets_a_bit(self, at: int) -> None:
        self.new.tell(worn=[(at, at + 512)])
        self.transfer(refusable=at in (0, 47 * MIB))

    @rule(skip=st.integers(0, 6))
    def a_flush_fails(self, skip: int) -> None:
        self.new.tell(flushes_fail=1, skip_flushes=skip)
        self.transfer()

    @rule(seconds=st.floats(0.3, 1.6))
    def it_is_killed(self, seconds: float) -> None:
        self.transfer(seconds)

    def teardown(self) -> None:
        if not hasattr(self, "new"):
            return
        try:
            assert any(self.transfer() == 0 for _ in range(3)), "well again, and yet it does not end"
        finally:
            self.old.close()
            self.new.close()
            shutil.rmtree(self.folder, ignore_errors=True)


TestDeviceTransfers = DeviceTransfers.TestCase
TestDeviceTransfers.settings = settings(
    max_examples=12 if _LONG else 1,
    stateful_step_count=8 if _LONG else 4,
    deadline=None,
    suppress_health_check=list(HealthCheck),
    print_blob=True,
)
