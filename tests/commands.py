"""The command line in this process, for tests that need no process of its own: quick, and as strict."""

from __future__ import annotations

import os
from contextlib import chdir
from pathlib import Path

import pytest

from kivvet.cli.main import main


class Said:
    """What a command printed and ended with."""

    def __init__(self, code: int, out: str, err: str) -> None:
        self.code = code
        self.out = out
        self.err = err
        self.all = out + err


class Commands:
    """Runs commands in a folder and keeps what they print."""

    def __init__(self, capsys: pytest.CaptureFixture[str]) -> None:
        self.capsys = capsys

    def __call__(self, *arguments: object, cwd: Path) -> Said:
        self.capsys.readouterr()
        with chdir(cwd), pytest.MonkeyPatch.context() as patch:
            patch.delitem(os.environ, "KIVVET_TRACEBACK", raising=False)
            with pytest.raises(SystemExit) as ended:
                main([str(one) for one in arguments])
        printed = self.capsys.readouterr()
        assert "in a way it should not" not in printed.err, printed.err
        code = ended.value.code
        return Said(code if isinstance(code, int) else 0, printed.out, printed.err)
