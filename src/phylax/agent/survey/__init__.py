"""Looking through a machine: places, what lies in them, and what a rule would let go."""
