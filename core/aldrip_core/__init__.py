"""The rules of the job. Pure computation: no database, no files, no clock, no globals."""
