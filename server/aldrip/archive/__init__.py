"""A whole organisation out of an Aldrip as a zip of JSON and CSV, and into another one. Sits above every room."""
