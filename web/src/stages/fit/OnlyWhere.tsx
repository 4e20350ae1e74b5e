import { useMemo, useState } from "react";
import type { Holding } from "../../api/client";
import { condition } from "../../desk/condition";
import { useFeatures } from "../../desk/useDraft";
import { Choice } from "../../ui/Choice";
import { TextField } from "../../ui/TextField";

const NONE = "any";
const MOST_VALUES = 200;

interface Props {
  holding: Holding;
  where: string;
  onChange: (where: string | null) => void;
}

/** How many of the rows meet a condition, or what is wrong with it. */
function met(
  rows: { properties: Record<string, string | number | boolean | null> }[],
  where: string,
  columns: string[],
) {
  try {
    const test = condition(where, columns);
    return { found: rows.filter((row) => test(row.properties)).length, wrong: "" };
  } catch (problem) {
    return { found: 0, wrong: `${(problem as Error).message}.` };
  }
}

/** Which of the features count: those with a value in a column, picked from what there is, or any condition. */
export function OnlyWhere({ holding, where, onChange }: Props) {
  const { data } = useFeatures(holding);
  const [column, setColumn] = useState(NONE);
  const columns = Object.keys(holding.features?.attributes ?? {});
  const rows = data?.features ?? [];
  const values = useMemo(() => {
    const counts = new Map<string, number>();
    for (const { properties } of data?.features ?? []) {
      const value = properties[column];
      if (value !== null && value !== undefined) counts.set(String(value), (counts.get(String(value)) ?? 0) + 1);
    }
    return [...counts].sort(([, one], [, other]) => other - one).slice(0, MOST_VALUES);
  }, [data, column]);
  const told = where && rows.length > 0 ? met(rows, where, columns) : null;
  return (
    <>
      <TextField
        label="Only where"
        value={where}
        placeholder="all of them"
        maxLength={2_000}
        onChange={(text) => onChange(text || null)}
      />
      {told && (
        <p className={told.wrong ? "fail" : "hint"} role="status">
          {told.wrong || (
            <>
              <span className="n">{told.found}</span> of <span className="n">{rows.length}</span>
            </>
          )}
        </p>
      )}
      {!where && columns.length > 0 && (
        <Choice
          label="or by"
          value={column}
          options={[{ value: NONE, title: "a column" }, ...columns.map((one) => ({ value: one, title: one }))]}
          onChange={setColumn}
        />
      )}
      {!where && column !== NONE && (
        <Choice
          label="that is"
          value=""
          empty="choose a value"
          options={values.map(([value, count]) => ({ value, title: `${value || "empty"}, ${count}` }))}
          onChange={(value) => onChange(value ? `"${column}" = "${value}"` : `"${column}" is empty`)}
        />
      )}
    </>
  );
}
