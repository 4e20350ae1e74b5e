"""Tables: what they refuse, and that they are the same after they were written and read."""

import csv
import io

from yama.terrain import table
from yama.terrain.errors import InputError
from yama.terrain.table import Column, Table
from yama.terrain.tests.test_surface import FolderTest

COLUMNS = (
    Column("place", "Place", type="text"), Column("error", "Error", "m", decimals=2), Column("count", "Points", type="whole"),
    Column("used", "Used", type="yes_no"),
)  # fmt: skip
ROWS = [("Skerry, north", -0.1234567890123, 3, True), ('the "old" quay', None, None, False), ("", 1e-9, 0, None)]


class TableTest(FolderTest):
    def test_it_is_the_same_after_it_was_written_and_read(self):
        made = Table(COLUMNS, ROWS, {"nmad": 0.25, "outside": []})
        table.write(made, self.folder / "made.json")
        self.assertEqual(table.read(self.folder / "made.json"), made)
        self.assertEqual(made.column("count"), [3, None, 0])

    def test_any_reader_of_csv_gets_every_value_in_all_its_digits(self):
        table.write(Table(COLUMNS, ROWS), self.folder / "made.csv")
        read = list(csv.reader(io.StringIO((self.folder / "made.csv").read_bytes().decode())))
        self.assertEqual(read[0], ["Place", "Error (m)", "Points", "Used"])
        self.assertEqual(read[1], ["Skerry, north", "-0.1234567890123", "3", "yes"])
        self.assertEqual(read[2], ['the "old" quay', "", "", "no"])
        self.assertEqual(float(read[3][1]), 1e-9)

    def test_what_is_no_table_is_refused(self):
        with self.assertRaisesMessage(InputError, "Row 2 of this table has 1 values; there are 4 columns."):
            Table(COLUMNS, [ROWS[0], ("short",)])
        with self.assertRaisesMessage(InputError, "Two columns of this table have one name: a, a."):
            Table((Column("a", "A"), Column("a", "B")), [])
        with self.assertRaisesMessage(InputError, "written as .csv or .json, not as .xls"):
            table.write(Table(COLUMNS, []), self.folder / "made.xls")
        for value in ("NaN", "1e999", "true", '"3"', "[3]"):
            column = '{"name": "a", "title": "A", "unit": "m", "type": "number", "decimals": null}'
            text = f'{{"format": "yama-table/1", "columns": [{column}], "rows": [[{value}]], "facts": {{}}}}'
            (self.folder / "bad.json").write_text(text)
            with self.assertRaisesMessage(InputError, "in the column A is no number"):
                table.read(self.folder / "bad.json")
        for text in ("", "[]", "[" * 100_000, '{"format": "yama-table/1", "columns": [{"tint": 3}], "rows": []}'):
            (self.folder / "bad.json").write_text(text)
            with self.assertRaises(InputError):
                table.read(self.folder / "bad.json")
