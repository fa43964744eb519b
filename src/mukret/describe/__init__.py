"""What is handed over with the tables: a data dictionary, schemas, DDL, typed records; all of it
out of the rules.
"""
