"""Bonding and welding: settings by process and metal, the order of welds and their heat, the working time of products."""
