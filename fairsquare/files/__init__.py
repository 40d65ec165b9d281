"""Files that come and go: sheets as CSV, XLSX and JSON; records in their canonical form."""
