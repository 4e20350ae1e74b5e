import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { type Crs, call } from "../../api/client";
import { KEYS } from "../../api/keys";
import { num } from "../../desk/format";
import { Entry } from "../../ui/Entry";
import { Row } from "../../ui/Row";

const side = (value: number, sides: string) => `${num(Math.abs(value), 1)}° ${value < 0 ? sides[1] : sides[0]}`;

interface Props {
  value: string;
  onChange: (crs: string) => void;
  /** Longitude and latitude it should be meant for, where known. */
  at?: [number, number] | null;
}

/** A CRS by code, or found in the EPSG register by words of its name or of the country or sea it is for. */
export function CrsChoice({ value, onChange, at }: Props) {
  const id = useId();
  const [asked, setAsked] = useState<string | null>(null);
  const words = (asked ?? "").trim();
  const { data: found = [], isFetching } = useQuery({
    queryKey: KEYS.crs(words, at),
    queryFn: ({ signal }) => {
      const query = new URLSearchParams({ q: words });
      if (at) {
        query.set("longitude", String(at[0]));
        query.set("latitude", String(at[1]));
      }
      return call<Crs[]>("GET", `/frames/crs?${query}`, undefined, signal);
    },
    enabled: asked !== null && words.length > 1,
    staleTime: Infinity,
  });
  return (
    <div className="crs">
      <Row label="CRS" htmlFor={id}>
        <Entry
          id={id}
          figures
          whole
          value={asked ?? value}
          placeholder="EPSG code, or words of its name"
          onChange={setAsked}
          onBlur={() => {
            const typed = asked?.trim() ?? "";
            if (/^(epsg:)?\d{4,6}$/i.test(typed)) onChange(`EPSG:${typed.replace(/\D/g, "")}`);
            window.setTimeout(() => setAsked(null), 200); // a press on the list comes first
          }}
        />
      </Row>
      {asked !== null && words.length > 1 && (
        <ul className="found" aria-label="CRSs found">
          {found.map((one) => (
            <li key={one.code}>
              <button
                type="button"
                onMouseDown={(event) => event.preventDefault()}
                onClick={() => {
                  onChange(one.code);
                  setAsked(null);
                  (document.activeElement as HTMLElement | null)?.blur();
                }}
              >
                <b>{one.name}</b> <span className="n">{one.code}</span>
                <span className="mut">
                  {one.unit}
                  {one.bounds && (
                    <>
                      , {side(one.bounds[0], "EW")} to {side(one.bounds[2], "EW")}, {side(one.bounds[1], "NS")} to{" "}
                      {side(one.bounds[3], "NS")}
                    </>
                  )}
                </span>
              </button>
            </li>
          ))}
          {!found.length && !isFetching && <li className="mut">Nothing of that name is in the register.</li>}
        </ul>
      )}
    </div>
  );
}
