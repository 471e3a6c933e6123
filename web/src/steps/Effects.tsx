// Effects: rows of the strand that is held, of the whole, and those that several strands send to.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import {
  effectsOf,
  firstOf,
  freshBus,
  freshEffect,
  isShared,
  MOST_IN_ROW,
  MOST_SHARED,
  ofStrand,
  placeBefore,
  sharedOf,
  WHOLE,
} from "../model/effects";
import type { PlacedStrand } from "../model/strands";
import { decibels } from "../model/units";
import { Field } from "../parts/Field";
import { Menu } from "../parts/Menu";
import { Written } from "../parts/Written";
import { change } from "../state/edits";
import { usePending } from "../state/pending";
import { effectsQuery } from "../state/queries";
import { sayError, useView } from "../state/view";
import { EffectRow } from "./EffectRow";

interface Props {
  view: InstrumentView;
  held: PlacedStrand;
  strands: PlacedStrand[];
}

export function EffectsCard({ view, held, strands }: Props) {
  const kinds = useQuery(effectsQuery).data ?? [];
  const { program } = view;
  const shared = sharedOf(program);
  const own = ofStrand(held.strand.id);
  const [wanted, setWanted] = useState<number>();
  // The strand's own goes along with the strand.
  const bus = wanted !== undefined && (wanted === WHOLE || shared.some(({ id }) => id === wanted)) ? wanted : own;
  const row = effectsOf(program, bus);
  const room = shared.find(({ id }) => id === bus);
  const whose = bus === WHOLE ? "the whole" : (room?.name ?? held.strand.name);
  const say = (label: string, wishes: Parameters<typeof change>[2]) => void change(view.id, label, wishes).catch(sayError);
  const add = ({ kind, label, settings }: Schemas["EffectView"]) => {
    const effect: [number, number] = [bus, freshEffect()];
    const places = row.map((_, n) => n);
    say(`add ${label.toLowerCase()} to ${whose}`, [
      { effect, fact: "effect_kind", value: kind },
      { effect, fact: "effect_place", value: placeBefore(places, places.length) },
      ...firstOf(bus, settings).map((first) => ({ effect, ...first })),
      // Places are numbers of their own once the row has an order.
      ...row.map((one, n) => ({ effect: [bus, one.id] as [number, number], fact: "effect_place" as const, value: n })),
    ]);
  };
  const addRow = () => {
    const id = freshBus(program);
    const name = shared.length === 0 ? "Room" : `Row ${shared.length + 1}`;
    say(`add the shared row ${name}`, [
      { bus: id, fact: "bus_name", value: name },
      { send: [held.strand.id, id], fact: "send_db", value: -12 },
    ]);
    setWanted(id);
  };
  const tab = (id: number, name: string, title: string) => (
    <button
      key={id}
      className={`button small ${id === bus ? "on" : ""}`}
      aria-pressed={id === bus}
      title={title}
      onClick={() => setWanted(id === own ? undefined : id)}
    >
      {name}
      {effectsOf(program, id).length > 0 && <span className="num ml-1 text-ink3">{effectsOf(program, id).length}</span>}
    </button>
  );
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Effects" data-part="effects">
      <div className="flex flex-wrap items-center gap-2">
        <h3 className="mr-2">
          <b className="font-semibold">Effects</b>
        </h3>
        {tab(own, held.strand.name, "Heard on this strand alone")}
        {shared.map(({ id, name }) => tab(id, name, "A row that strands send to"))}
        {tab(WHOLE, "the whole", "Heard on everything, after all else")}
        <button
          className="text-[12.5px] text-ink2 hover:underline disabled:opacity-50"
          disabled={shared.length >= MOST_SHARED}
          onClick={addRow}
        >
          + a row that strands share
        </button>
      </div>
      {room && (
        <div className="flex flex-wrap items-end gap-3 border-t border-line2 pt-3" data-part="shared row">
          <Written
            label="Its name"
            place="w-36"
            value={room.name}
            onKeep={(text) => {
              const name = text.trim();
              if (name === "") return false;
              say(`rename ${room.name}`, [{ bus, fact: "bus_name", value: name }]);
              return true;
            }}
          />
          <Field
            label="Its level"
            width="84px"
            value={room.gain_db}
            unit={decibels}
            onSet={(v) => say(`set the level of ${room.name}`, [{ bus, fact: "bus_gain_db", value: Math.max(-96, Math.min(24, v)) }])}
          />
          {strands.map(({ strand }) => (
            <SendField key={strand.id} view={view} strand={strand} bus={room} />
          ))}
          <span className="grow" />
          <button
            className="rounded px-1.5 pb-1.5 text-ink3 hover:text-ink"
            aria-label={`Remove ${room.name}`}
            onClick={() => say(`remove ${room.name}`, [{ bus, fact: "bus_name", value: null }])}
          >
            ×
          </button>
        </div>
      )}
      <EffectRow view={view} bus={bus} row={row} kinds={kinds} whose={whose} strand={held} />
      <Print view={view} bus={bus} row={row} whose={whose} />
      <Menu
        align="start"
        className="self-start text-[12.5px] text-ink2 hover:underline disabled:opacity-50"
        disabled={row.length >= MOST_IN_ROW || kinds.length === 0}
        button={`+ an effect on ${isShared(bus) ? whose : bus === WHOLE ? "the whole" : held.strand.name}`}
        acts={kinds.map((kind) => ({ name: kind.label, begin: () => add(kind) }))}
      />
    </section>
  );
}

/** Puts a row into the recordings: for formats that have no such effect, or where each key is to have a space of its own. */
function Print({ view, bus, row, whose }: { view: InstrumentView; bus: number; row: Schemas["Effect"][]; whose: string }) {
  const [withFilter, setWithFilter] = useState(false);
  const [pending, begin] = usePending();
  const say = useView((state) => state.say);
  const print = async () => {
    const body = { bus, with_filter: withFilter };
    answer(await api.POST("/api/instruments/{id}/print", { params: { path: { id: view.id } }, body }));
    say("New takes are being made with these effects in them, and looped anew; the effects are off then. One Undo takes it back.");
  };
  if (!row.some(({ on }) => on)) return null;
  return (
    <div className="flex items-center gap-3 border-t border-line2 pt-3">
      <button
        className="button"
        disabled={pending}
        title="Every recording is played through them at its own pitch, with what is heard after it; the earlier takes stay on their cells"
        onClick={() => begin(print)}
      >
        Print into the recordings
      </button>
      <label className="flex items-center gap-1 text-[12.5px]">
        <input type="checkbox" checked={withFilter} onChange={(event) => setWithFilter(event.target.checked)} />
        the filter of {isShared(bus) || bus === WHOLE ? "each strand" : whose} too
      </label>
    </div>
  );
}

/** How loud a strand is in a row; emptied it is not sent there. */
function SendField({ view, strand, bus }: { view: InstrumentView; strand: Schemas["Strand"]; bus: Schemas["Bus"] }) {
  const sent = strand.sends.find((send) => send.bus === bus.id)?.gain_db;
  const send: [number, number] = [strand.id, bus.id];
  const say = (label: string, value: number | null) => void change(view.id, label, [{ send, fact: "send_db", value }]).catch(sayError);
  return (
    <Field
      label={`from ${strand.name}`}
      width="104px"
      value={sent}
      unit={decibels}
      onSet={(v) => say(`send ${strand.name} to ${bus.name}`, Math.max(-96, Math.min(24, v)))}
      onAutomatic={() => say(`send ${strand.name} to ${bus.name} no longer`, null)}
    />
  );
}
