"""The hours of a job and the day of the shop: what comes off for what, what it takes, and who does what, where and when."""
