"""What is due: the items, and the rules by which exceptions, upgrades and the fleet make them."""
