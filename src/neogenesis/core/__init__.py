"""Everything that can be computed: no window, no bus, no processes, no clock or randomness of its own."""
