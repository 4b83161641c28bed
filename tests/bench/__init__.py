"""`make bench`: the figures of docs/performance.md, each a ratio against a plain baseline of the same run."""
