"""What the agent needs of the system it runs on: running time, a clock to believe, spare room."""
