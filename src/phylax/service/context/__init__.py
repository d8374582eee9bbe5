"""What every request works with: the database, the clock, waking those who wait."""
