"""The ledger of inputs: every path that is given, and every octet of a text, is read, ignored by a rule, or refused."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import agile_lattice as al
from agile_lattice.archive.folders import captured_files
from agile_lattice.cli.main import main
from agile_lattice.notation.errors import NotationError
from where import DEMO

INTENT = str(DEMO / "saltmarsh.yaml")
OTHER = "a text of its own\n"


def captures(folder: Path) -> Path:
    return Path(shutil.copytree(DEMO / "applied", folder / "captures"))


def a_text_in_a_folder(device: Path) -> None:
    (device / "nftables.d").mkdir()
    (device / "nftables.d/x.nft").write_text(OTHER)


def a_folder_without_files(device: Path) -> None:
    shutil.rmtree(device)
    device.mkdir()


SPOILT: dict[str, Callable[[Path], object]] = {
    "a hidden file": lambda device: (device / ".running.conf.swp").write_text(OTHER),
    "a link that leads nowhere": lambda device: (device / "more.nft").symlink_to("nowhere"),
    "a pipe": lambda device: os.mkfifo(device / "more.nft"),
    "a folder that leads back": lambda device: (device / "more").symlink_to(".."),
    "a file beside the folders": lambda device: (device.parent / "ruleset.nft").write_text(OTHER),
    "a text in a folder": a_text_in_a_folder,
    "a folder without files": a_folder_without_files,
}


@pytest.mark.parametrize("how", SPOILT)
def test_no_file_is_skipped_without_a_word(how: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    here = captures(tmp_path)
    assert main(["diff", INTENT, str(here)]) == 0
    SPOILT[how](here / "quay-edge")
    for command in ("diff", "prove", "mend"):
        assert main([command, INTENT, str(here)]) != 0, command
    assert str(here) in capsys.readouterr().err or how == "a text in a folder"


def test_of_two_captures_of_a_text_none_is_dropped(capsys: pytest.CaptureFixture[str]) -> None:
    for order in (("a-year-later", "applied"), ("applied", "a-year-later"), ("applied", "applied")):
        assert main(["diff", INTENT, *(str(DEMO / each) for each in order)]) == 2
        assert "quay-edge has a text of this name already" in capsys.readouterr().err


def test_different_texts_of_a_device_are_put_together(tmp_path: Path) -> None:
    for each in ("ruleset.nft", "running.conf"):
        (tmp_path / each[:4] / "pier-gate").mkdir(parents=True)
        shutil.copy(DEMO / "applied/pier-gate" / each, tmp_path / each[:4] / "pier-gate" / each)
    folders = [str(tmp_path / "rule"), str(tmp_path / "runn")]
    assert main(["diff", INTENT, *folders, str(DEMO / "applied"), "--device", "quay-edge"]) == 2
    shutil.copytree(DEMO / "applied/quay-edge", tmp_path / "rule/quay-edge")
    assert main(["diff", INTENT, *folders]) == 0


NAMES = st.sampled_from(["a", "b.conf", ".git", ".gitkeep", ".hidden", "c d", "e\n"])
TREES = st.recursive(st.just("x\n"), lambda inside: st.dictionaries(NAMES, inside, max_size=3), max_leaves=8)


@settings(deadline=None)
@given(st.dictionaries(st.sampled_from(["quay", "pier", ".git", "note.txt"]), TREES, max_size=3))
def test_every_file_below_a_path_is_in_one_column(tmp_path_factory: pytest.TempPathFactory, tree: object) -> None:
    """The law of the ledger: each file is read, has a rule by which it is ignored, or the whole is refused."""
    top = tmp_path_factory.mktemp("tree")

    def grow(path: Path, what: object) -> None:
        if not isinstance(what, dict):
            path.write_text(str(what))
            return
        path.mkdir(exist_ok=True)
        for name, inside in what.items():
            grow(path / name, inside)

    grow(top, tree)
    try:
        found = captured_files([top])
    except NotationError as error:
        assert error.faults
        return
    every = {path for path in top.rglob("*") if path.is_file()}
    ignored = {path for path in every if any(each == path or each in path.parents for each in found.ignored)}
    assert {each.path for each in found.read} | ignored == every
    assert not {each.path for each in found.read} & ignored


# What ends a line for the programs that read these texts; all other characters do not.
REMARK = {"nftables": "# note{}oifname \"wan0\" masquerade", "frr": "! note{}ip route 10.99.0.0/16 10.40.10.9",
          "iptables": "# note{}-A POSTROUTING -o wan0 -j MASQUERADE", "sysctl": "# note{}net.ipv4.ip_forward=1",
          "iproute2": "# note{}route add 10.99.0.0/16 via 10.40.10.9",
          "ifupdown": "# note{}auto lan9", "resolv": "# note{}nameserver 10.40.10.53"}  # fmt: skip
FILES = {"nftables": "r.nft", "frr": "frr.conf", "iptables": "iptables.rules", "sysctl": "sysctl.conf",
         "iproute2": "iproute2.batch", "ifupdown": "interfaces", "resolv": "resolv.conf"}  # fmt: skip


@pytest.mark.parametrize("speaks", REMARK)
@pytest.mark.parametrize("odd", "\f\v\r\x1c\x1d\x1e\x85\u2028\u2029", ids=ascii)
def test_a_remark_ends_where_its_line_does(speaks: str, odd: str) -> None:
    statement = REMARK[speaks].partition("{}")[2]
    frame = "*nat\n{}\nCOMMIT\n" if speaks == "iptables" else "{}\n"
    if speaks == "nftables":
        frame = "table ip nat {{\nchain POSTROUTING {{\ntype nat hook postrouting priority 100\n{}\n}}\n}}\n"
    said, remark = (al.read("quay", [speaks], {FILES[speaks]: frame.format(each)}) for each in (
        statement, REMARK[speaks].format(odd)))  # fmt: skip
    empty = al.read("quay", [speaks], {FILES[speaks]: frame.format("")})
    assert said.device != empty.device or said.leftovers, "the statement says something"
    assert remark.device == empty.device and remark.leftovers == ()
