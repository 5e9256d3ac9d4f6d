"""The second phase of a run: what came out is opened again and proved."""

from __future__ import annotations

from msgspec import Struct

from gravel.plans import proofs
from gravel.plans.execution import Execution
from gravel.plans.ledger import Proof, StepLine
from gravel.plans.step_lines import reasons_to_stop, rows_gone, step_lines


class Verdict(Struct):
    """What was proved of a run: the ledger's lines, why it stops if it does, the proofs."""

    lines: tuple[StepLine, ...]
    stopped: tuple[tuple[int, str], ...]
    proofs: list[Proof]

    @property
    def good(self) -> bool:
        """Whether nothing stops the run and every proof holds."""
        return not self.stopped and all(proof.holds for proof in self.proofs)


def prove(execution: Execution) -> Verdict:
    """The proofs of an execution; those of its output only where every step has run on every
    row."""
    plan, flow, wish = execution.plan, execution.flow, execution.wish
    lines = step_lines(flow)
    stopped = reasons_to_stop(flow)
    shown = list(proofs.of_run(plan, flow, lines)) if wish.sample is None else []
    if not stopped and wish.whole:
        rejects = execution.rejects.file
        shown += proofs.of_output(
            plan,
            flow,
            execution.output,
            execution.rows.opened(),
            execution.seals,
            execution.set_digest,
            None if rejects is None else (rejects.path, rows_gone(lines)),
        )
    return Verdict(lines, stopped, shown)
