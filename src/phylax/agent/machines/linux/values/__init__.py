"""Settings of one value on a Linux machine: one module for each kind, by the interface that keeps
it. The machine's are read and set by the agent, a person's with that person's rights."""
