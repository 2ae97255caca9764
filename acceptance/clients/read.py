"""Reads, prepares, fetches, follows and cancels, by the driver named."""

import datetime
import decimal
import importlib
import sys
import threading
import time

driver = importlib.import_module(sys.argv[1])
connection = driver.connect("")
cursor = connection.cursor()
cursor.execute("SELECT hall, capacity_per_minute FROM gate WHERE gate = %s", ("G02",))
assert cursor.fetchall() == [("North", 42)]
assert [c.name for c in cursor.description] == ["hall", "capacity_per_minute"]
cursor.execute("SELECT SUM(capacity_per_minute) + %s FROM gate WHERE capacity_per_minute > %s",
               (decimal.Decimal("0.5"), 59))
assert cursor.fetchone() == (decimal.Decimal("60.5"),), cursor.fetchone()
cursor.execute("SELECT gate FROM gate WHERE gate = ANY (%s) ORDER BY gate", (["G03", "G01"],))
assert cursor.fetchall() == [("G01",), ("G03",)]
connection.rollback()

try:
    cursor.execute("SELECT gatee FROM gate")
    raise SystemExit("no error")
except driver.Error as e:
    assert "gatee" in str(e), e
connection.rollback()

with connection.cursor(name="pieces") as pieces:
    pieces.itersize = 7
    pieces.execute("SELECT gate FROM gate ORDER BY gate")
    assert len(pieces.fetchmany(5)) == 5
    assert len(pieces.fetchall()) == 15
connection.rollback()

cursor.execute("DECLARE changes CURSOR FOR FOLLOW SELECT gate FROM gate WHERE gate = 'G01'")
cursor.execute("FETCH 5 FROM changes")
row = cursor.fetchone()
assert row[0] == 1 and row[2] == "G01", row
timer = threading.Timer(0.5, connection.cancel)
timer.start()
began = time.time()
try:
    cursor.execute("FETCH 5 FROM changes")
    raise SystemExit("not cancelled")
except driver.Error as e:
    assert e.__class__.__name__ in ("QueryCanceledError", "QueryCanceled"), repr(e)
assert time.time() - began < 10
connection.rollback()

if driver.__name__ == "psycopg":
    with cursor.copy("COPY (SELECT gate FROM gate WHERE gate < 'G03' ORDER BY gate) TO STDOUT") as copy:
        assert list(copy.rows()) == [("G01",), ("G02",)]
    binary = connection.cursor(binary=True)
    for i in range(8):
        binary.execute("SELECT gate, capacity_per_minute FROM gate WHERE gate = %s", ("G05",), prepare=True)
        assert binary.fetchone() == ("G05", 45)
    at = datetime.datetime(2026, 3, 2, 6)
    for length in (datetime.timedelta(hours=36), datetime.timedelta(days=-1, milliseconds=4)):
        for form in ("%s", "%b", "%t"):
            binary.execute("SELECT TIMESTAMP '2026-03-02 06:00:00' + " + form, (length,))
            assert binary.fetchone() == (at + length,), (form, length)
else:
    import io
    out = io.StringIO()
    cursor.copy_expert("COPY gate (gate) TO STDOUT WITH CSV", out)
    assert len(out.getvalue().split()) == 20
connection.close()
print("done")
