"""What a terminal is given and gives: tables, data, drawings, arguments."""
