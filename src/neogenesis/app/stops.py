"""The stops of the route, each as its own folder declares it."""

from __future__ import annotations

from neogenesis.app.decide.stop import SPEC as DECIDE
from neogenesis.app.first_boot.stop import SPEC as FIRST_BOOT
from neogenesis.app.fit.stop import SPEC as FIT
from neogenesis.app.handover.stop import SPEC as HANDOVER
from neogenesis.app.intake.stop import SPEC as INTAKE
from neogenesis.app.parts.stop import StopSpec
from neogenesis.app.plan.stop import SPEC as PLAN
from neogenesis.app.survey.stop import SPEC as SURVEY
from neogenesis.app.swap.stop import SPEC as SWAP
from neogenesis.app.transfer.stop import SPEC as TRANSFER

#: In the order of the route.
STOPS: dict[str, StopSpec] = {
    spec.key: spec for spec in (INTAKE, SURVEY, DECIDE, FIT, PLAN, TRANSFER, SWAP, FIRST_BOOT, HANDOVER)
}
