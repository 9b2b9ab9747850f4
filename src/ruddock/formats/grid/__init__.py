"""The coefficient grid: a column for each decision, a row for each constraint, as people keep it in spreadsheets."""
