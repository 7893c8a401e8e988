"""The macro language: text to steps (`reader`), steps to a timetable (`steps`, `timetable`), and to text (`writer`)."""
