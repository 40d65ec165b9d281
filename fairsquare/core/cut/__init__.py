"""Where to cut, how the lines of vehicle and donor come to agree, and which spot weld is opened how."""
