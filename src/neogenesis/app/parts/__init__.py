"""Drawing that several stops share: columns of strata, ribbons, bench tags, traces, and small controls."""
