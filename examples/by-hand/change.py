"""Changes one record, where it is still at the version it was loaded with.

The statement is what this shows, pasted:

    ledgerman change programme P-107 hoursLeft=14.50 --statement --style percent

What it says around the statement is done here by hand: the guard is one more condition, and the count is looked at.
Usage: change.py CODE HOURS VERSION, with DATABASE_URL set.
"""

import os
import sys

import psycopg2

STATEMENT = """
update public.programme
set hours_left = %s, row_version = row_version + 1
where code = %s
"""


def change(connection, code, hours_left, version):
    # Leaving the block commits, or rolls back where something was raised.
    with connection, connection.cursor() as cursor:
        cursor.execute("set local lock_timeout = '2s'; set local statement_timeout = '10s'")
        cursor.execute(STATEMENT + "and row_version = %s", (hours_left, code, version))
        if cursor.rowcount == 1:
            return f"changed: version {version + 1}"
        cursor.execute("select row_version, hours_left from public.programme where code = %s", (code,))
        row = cursor.fetchone()
    if row is None:
        return f"there is no programme {code}"
    return f"changed meanwhile: version {row[0]}, {row[1]} hours"


if __name__ == "__main__":
    code, hours_left, version = sys.argv[1], sys.argv[2], int(sys.argv[3])
    connection = psycopg2.connect(os.environ["DATABASE_URL"])
    try:
        print(change(connection, code, hours_left, version))
    finally:
        connection.close()
