"""Consent, and acceptance, name one object of one device: whatever it is called in a message."""

from __future__ import annotations

from pathlib import Path

import pytest

import agile_lattice as al
from agile_lattice.cli.main import main
from agile_lattice.dialects.errors import ChangeError

MANAGED = """
lattice: 1
zones: {{office: {{exposure: own}}, sea: {{exposure: public}}}}
devices:
  {name}:
    speaks: [iproute2, nftables]
    interfaces:
      lan0: {{zone: office, address: 10.40.10.1/24, management: true}}
      wan0: {{zone: sea, address: 203.0.113.2/28}}
    management:
      - {{from: office, source: 10.40.10.7, service: tcp/22{description}}}
      - {{from: office, source: 10.40.10.8, service: tcp/443{description}}}
      - {{from: office, source: 10.40.10.9, service: udp/161}}
"""


def device(name: str, drop: str = "", description: str = "") -> al.Device:
    text = MANAGED.format(name=name, description=f", description: {description}" if description else "")
    kept = [line for line in text.splitlines() if not drop or drop not in line]
    return al.loads("\n".join(kept)).device(name)


def captured(one: al.Device, *beside: str) -> dict[str, str]:
    """What a device has, with more entries of management behind its own."""
    texts = {each.file: each.text for each in al.render(one)}
    last = "udp dport 161 counter accept\n"
    more = "".join(f'\t\tiifname "lan0" {each} counter accept\n' for each in beside)
    return {file: text.replace(last, last + more) for file, text in texts.items()}


def test_consent_to_one_entry_is_none_to_the_others() -> None:
    """The law: what is consented to goes, and no more, whatever else has no name, or the same words."""
    for name in ("quay", "pier"):
        intent = device(name, drop="tcp/")
        texts = captured(device(name))
        held = al.mend(intent, texts.items()).held
        assert sorted(each.identity for each in held) == [
            f"{name}/access/from lan0, source 10.40.10.7, service tcp/22",
            f"{name}/access/from lan0, source 10.40.10.8, service tcp/443",
        ]  # fmt: skip
        assert len({each.subject for each in held}) == 1, "their words are the same"
        one = "quay/access/from lan0, source 10.40.10.7, service tcp/22"
        [mending] = [al.mend(intent, texts.items(), consent={one})]
        assert [each.identity for each in mending.held] == [each.identity for each in held if each.identity != one]
    assert al.mend(device("quay", drop="tcp/"), texts.items(), consent={"management"}).held, "words are no identity"


def test_an_identity_does_not_change_with_what_a_thing_is_said_to_be_for() -> None:
    texts = captured(device("quay"))
    for description in ("", "for the office", "by night"):
        [difference] = al.diff(device("quay", drop="udp/161", description=description), al.read(
            "quay", ["iproute2", "nftables"], texts)).differences  # fmt: skip
        assert difference.identity == "quay/access/from lan0, source 10.40.10.9, service udp/161"


def test_consent_that_fits_several_or_none_is_refused(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    twice = "ip saddr 10.40.10.5 tcp dport 9"
    texts = captured(device("quay"), twice, "ip saddr 10.40.10.6 udp dport 9", twice)
    with pytest.raises(ChangeError, match="is what several are"):
        al.mend(device("quay"), texts.items(), consent={"quay/access/from lan0, source 10.40.10.5, service tcp/9"})
    (tmp_path / "intent.yaml").write_text(MANAGED.format(name="quay", description=""))
    (tmp_path / "captures/quay").mkdir(parents=True)
    for file, text in texts.items():
        (tmp_path / "captures/quay" / file).write_text(text)
    argv = ["mend", str(tmp_path / "intent.yaml"), str(tmp_path / "captures"), "--allow-lockout"]
    assert main([*argv, "management"]) == 2
    assert "nothing that differs is 'management'" in capsys.readouterr().err


ACCEPTED = """
lattice: 1
zones: {{office: {{exposure: own}}, sea: {{exposure: public}}}}
devices:
  quay:
    speaks: [iproute2, nftables]
    interfaces: {{lan0: {{zone: office, address: 10.40.10.1/24}}, wan0: {{zone: sea, address: 203.0.113.2/28}}}}
    management:
      - {{from: sea, service: tcp/22}}
{more}
accepted: [{{finding: management-open, on: "quay management from wan0, service tcp/22", reason: by key only}}]
"""


def test_an_acceptance_is_for_one_entry() -> None:
    open_ = [each for each in al.check(al.loads(ACCEPTED.format(more=""))) if each.slug == "management-open"]
    assert open_ and all(each.accepted for each in open_)
    more = al.check(al.loads(ACCEPTED.format(more="      - {from: sea, service: tcp/23}")))
    found = {each.subject: bool(each.accepted) for each in more if each.slug == "management-open"}
    assert found == {
        "quay management from wan0, service tcp/22": True,
        "quay management from wan0, service tcp/23": False,
    }
    twice = al.check(al.loads(ACCEPTED.format(more="      - {from: sea, service: tcp/22, description: again}")))
    assert not any(each.accepted for each in twice)
    assert any("several objects" in each.what for each in twice)
