"""Commands for a clean start: recipes, system images, drivers, installer media."""

from __future__ import annotations

from pathlib import Path

import click

from neogenesis.core.record import to_json

_json = click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")


@click.command()
@click.argument("hardware", metavar="HARDWARE", type=click.Path(path_type=Path))
@click.argument("packages", metavar="PACKAGES_DIR", type=click.Path(path_type=Path))
@click.option(
    "--pack", metavar="OUT_DIR", type=click.Path(path_type=Path), help="Put what is needed into a new folder."
)
@_json
def drivers(hardware: Path, packages: Path, pack: Path | None, as_json: bool) -> None:
    """Say which driver packages of a folder a machine needs, which are best, and what is missing.

    HARDWARE is our own record, modalias files, what lspci -nn or lsusb print, or an export with device identifiers.
    PACKAGES_DIR holds INF files, also in archives, or a Linux kernel tree.

    Example: neogenesis drivers desk.hardware.json packages --pack stick/drivers
    """
    from neogenesis.bench.driver_store import find_drivers, read_devices

    found = find_drivers(read_devices(hardware), packages, pack).answer
    if as_json:
        click.echo(to_json(found).decode(), nl=False)
        return
    width = max((len(d.name) for d in found.devices), default=0)
    for device in sorted(found.devices, key=lambda d: d.status != "missing"):
        best = f"{device.best.inf} {device.best.version}".strip() if device.best is not None else device.without
        click.echo(f"{device.status:<9} {device.name:<{min(width, 40)}}  {best}")
    for number, inf in enumerate(found.order, 1):
        during = "  (during the installation)" if inf in found.during_installation else ""
        click.echo(f"{number:>3}  {inf}{during}")
    for one in found.skipped:
        click.echo(f"passed over: {one.inf}: {one.text}")
    click.echo(f"{found.bytes} bytes in {len(found.order)} packages; {len(found.missing)} devices without a driver.")


COMMANDS = (drivers,)
