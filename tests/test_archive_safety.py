"""Nothing that lies in a folder of captures is run, and what an archive lacks is said."""

from __future__ import annotations

import os
import subprocess
from datetime import UTC, datetime
from pathlib import Path

import pytest

from agile_lattice.archive.repository import Archive, ArchiveError
from agile_lattice.cli.main import main
from where import DEMO

WHEN = datetime(2026, 11, 20, tzinfo=UTC)


def an_archive(path: Path) -> Archive:
    archive = Archive.made(path)
    texts = {
        each.name: {file.name: file.read_text() for file in sorted(each.iterdir())}
        for each in (DEMO / "applied").iterdir()
    }
    archive.set_good("quay-edge", archive.write(texts, {}, "nobody", WHEN))
    return archive


def trapped(path: Path, mark: Path) -> None:
    """Let whatever git would run of a repository leave a mark."""
    program = path / "trap"
    program.write_text(f"#!/bin/sh\ntouch {mark}\n")
    program.chmod(0o755)
    (path / "hooks").mkdir(exist_ok=True)
    for hook in ("reference-transaction", "post-checkout", "pre-auto-gc", "fsmonitor-watchman", "post-index-change"):
        (path / "hooks" / hook).write_text(program.read_text())
        (path / "hooks" / hook).chmod(0o755)
    settings = {
        "core.fsmonitor": program, "core.pager": program, "core.sshCommand": program,
        "core.alternateRefsCommand": program, "remote.there.url": path,
        "remote.there.uploadpack": program, "remote.there.promisor": "true",
        "extensions.partialClone": "there", "core.repositoryFormatVersion": "1", "diff.external": program,
        "log.showSignature": "true", "gpg.program": program, "protocol.allow": "always", "tar.tar.command": program,
        "uploadpack.packObjectsHook": program, "core.gitProxy": program, "credential.helper": f"!{program}",
    }  # fmt: skip
    for name, value in settings.items():
        subprocess.run(["git", "config", "--file", path / "config", name, str(value)], check=True)


def test_a_folder_that_looks_like_a_repository_runs_nothing(tmp_path: Path) -> None:
    archive, mark = an_archive(tmp_path / "archive"), tmp_path / "mark"
    trapped(archive.path, mark)
    last = archive.revision()
    object_ = next(each for each in (archive.path / "objects").rglob("*") if each.is_file())
    for what in ("whole", "with an object missing"):
        if what != "whole":
            object_.unlink()
        for argv in (["diff"], ["prove"], ["mend"]):
            for at in ("", "@good", "@2026-11-20"):
                assert main([*argv, str(DEMO / "saltmarsh.yaml"), f"{archive.path}{at}"]) in (0, 1, 2)
        for argv in (["archive", "log", str(archive.path)], ["archive", "good", str(archive.path), "quay-edge"]):
            assert main(argv) in (0, 1, 2)
        if what == "whole":
            archive.set_good("pier-gate", last)
            archive.write({"quay-edge": {"a": "b\n"}}, {}, "nobody", WHEN)
        assert not mark.exists(), what


def test_an_intent_in_a_repository_of_plain_files_runs_nothing(tmp_path: Path) -> None:
    mark, intent = tmp_path / "mark", tmp_path / "archive" / "intent.yaml"
    trapped(an_archive(tmp_path / "archive").path, mark)
    intent.write_text((DEMO / "saltmarsh.yaml").read_text())
    assert main(["prove", str(intent), "@HEAD"]) == 2
    assert not mark.exists()


def test_an_object_that_is_missing_is_named(tmp_path: Path) -> None:
    archive = an_archive(tmp_path / "archive")
    revision = archive.revision()
    listed = subprocess.run(
        ["git", "-C", archive.path, "ls-tree", "-r", revision], check=True, capture_output=True, text=True
    ).stdout
    lost = listed.split()[2]
    (archive.path / "objects" / lost[:2] / lost[2:]).unlink()
    with pytest.raises(ArchiveError, match=r"devices/\S+ is not in it"):
        archive.all_texts(revision)


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root, to give a folder to somebody else")
def test_an_archive_of_another_user_is_refused(tmp_path: Path) -> None:
    archive = an_archive(tmp_path / "archive")
    os.chown(archive.path, 12345, 12345)
    with pytest.raises(ArchiveError, match="belongs to another user"):
        archive.revision()
