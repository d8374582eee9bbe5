"""What a service can be asked, a module for each family; loaded when used."""
