// Several instruments given away as one: presets of a SoundFont, or SFZ that share their audio.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Card, type Schemas } from "../api/client";
import { forWaiting, megabytes } from "../model/units";
import { formatOf, type Kind, KINDS, writingOf } from "../model/writing";
import { withOne } from "../model/sets";
import { BackToShelf } from "../parts/BackToShelf";
import { Losses } from "../parts/Losses";
import { Made } from "../parts/Made";
import { Written } from "../parts/Written";
import { useExporting } from "../state/exporting";
import { usePending } from "../state/pending";
import { shelfQuery } from "../state/queries";
import { PresetsBeside } from "../steps/PresetsBeside";
import { WritingChoices } from "../steps/WritingChoices";

type Place = { bank: number; program: number };

/** Whatever is chosen, one of them may have it. */
const ANY = { turns: true, keyUp: true, kept: true };

/** Of these kinds several are written as one. */
const TOGETHER = KINDS.filter(({ value }) => value !== "audio");

/** What becomes of several. */
const OF_KIND: Partial<Record<Kind, string>> = {
  sfz: "Each becomes an SFZ; all share one folder of audio.",
  sfz_flac: "Each becomes an SFZ; all share one folder of audio.",
  sound_font2: "Each instrument becomes a preset of one SoundFont.",
  page: "All stand on one page, chosen from a list or by program change.",
};

export function Together() {
  const shelf = useQuery(shelfQuery);
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const [said, setSaid] = useState<Record<number, Place>>({});
  const [title, setTitle] = useState("Instruments");
  const [even, setEven] = useState(true);
  const [job, setJob] = useState<number | undefined>();
  const kept = useExporting();
  const [pending, begin] = usePending();
  // Audio alone is of one instrument.
  const choices = kept.choices.kind === "audio" ? { ...kept.choices, kind: "sfz" as const } : kept.choices;
  const isSoundFont = choices.kind === "sound_font2";
  const hasPlaces = isSoundFont || choices.kind === "page";
  const cards = shelf.data?.filter((card) => !card.set_aside) ?? [];
  const wanted = cards.filter(({ id }) => chosen.has(id));
  const wish: Schemas["NewTogether"] = {
    instruments: wanted.map(({ id }) => ({ id, ...said[id] })),
    ...writingOf(choices),
    even,
    title,
  };
  const preview = useQuery({
    queryKey: ["together", wish],
    queryFn: async () => answer(await api.POST("/api/together/preview", { body: wish })),
    enabled: wanted.length > 0,
    placeholderData: (before: Schemas["TogetherPreview"] | undefined) => before,
    retry: false,
  });
  const making = useQuery({
    queryKey: ["job", job],
    queryFn: async () => answer(await api.GET("/api/jobs/{id}", { params: { path: { id: job! } } })),
    enabled: job !== undefined,
    refetchInterval: (query) => (["waiting", "running"].includes(query.state.data?.state ?? "running") ? 300 : false),
  });
  const write = async () => setJob(answer(await api.POST("/api/together", { body: wish })).id);
  const placeOf = (id: number) => said[id] ?? preview.data?.places.find((place) => place.id === id);
  const { data } = preview;
  return (
    <div className="flex h-full flex-col">
      <BackToShelf />
      <main className="mx-auto flex min-h-0 w-full max-w-4xl flex-1 flex-col gap-3 overflow-y-auto p-6">
        <div>
          <h1 className="text-[17px] font-semibold">Several as one</h1>
          <p className="text-ink3">{OF_KIND[choices.kind]}</p>
        </div>
        <div className="card shrink-0 overflow-hidden">
          {cards.map((card) => (
            <Row
              key={card.id}
              card={card}
              isOn={chosen.has(card.id)}
              place={hasPlaces && chosen.has(card.id) ? placeOf(card.id) : undefined}
              onChoose={(on) => setChosen(withOne(chosen, card.id, on))}
              onPlace={(place) => setSaid({ ...said, [card.id]: place })}
            />
          ))}
          {shelf.data && cards.length === 0 && <p className="p-3 text-ink3">There is nothing on the shelf yet.</p>}
        </div>
        <div className="card grid shrink-0 grid-cols-[1.6fr_1fr_1fr_1fr] items-end gap-3 p-3">
          <WritingChoices kinds={TOGETHER} choices={choices} onChange={kept.setChoices} />
          <Written place="col-span-2" label="Name of all together" value={title} onKeep={(text) => setTitle(text.trim() || title)} />
          <label className="col-span-2 flex items-center gap-1" title="Each is played and listened to, and comes down to the softest">
            <input type="checkbox" checked={even} onChange={(event) => setEven(event.target.checked)} />
            As loud as each other
          </label>
          <PresetsBeside has={ANY} choices={choices} onChange={kept.setChoices} />
          <p className="col-span-3 text-[12px] text-ink2" data-part="preview">
            {wanted.length === 0 && "Choose what goes out."}
            {wanted.length > 0 && preview.isError && <span className="text-mark">{preview.error.message}</span>}
            {wanted.length > 0 && !preview.isError && data && (
              <>
                {data.preview.files === 1 ? "One file" : `${data.preview.files} files`}, about{" "}
                <span className="num">{megabytes(data.preview.bytes)}</span>, made in{" "}
                <span className="num">{forWaiting(data.preview.seconds)}</span>
                {isSoundFont ? `, ${data.preview.named} presets` : ""}
              </>
            )}
          </p>
          <button className="button act" disabled={wanted.length === 0 || pending || preview.isError} onClick={() => begin(write)}>
            Export
          </button>
        </div>
        {wanted.length > 0 && data && <Losses format={formatOf(choices.kind)} losses={data.preview.losses} />}
        {making.data && (
          <div className="card shrink-0 overflow-hidden">
            <Made job={making.data} />
          </div>
        )}
      </main>
    </div>
  );
}

interface RowProps {
  card: Card;
  isOn: boolean;
  place: Place | undefined;
  onChoose: (on: boolean) => void;
  onPlace: (place: Place) => void;
}

function Row({ card, isOn, place, onChoose, onPlace }: RowProps) {
  return (
    <div className="flex h-10 items-center gap-3 border-t border-line2 px-3 first:border-t-0" data-instrument={card.id}>
      <label className="flex min-w-0 grow items-center gap-2">
        <input type="checkbox" checked={isOn} onChange={(event) => onChoose(event.target.checked)} />
        <span className="truncate">{card.name}</span>
      </label>
      {place && (
        <>
          <Count label={`Bank of ${card.name}`} name="bank" value={place.bank} most={128} onKeep={(bank) => onPlace({ ...place, bank })} />
          <Count
            label={`Program of ${card.name}`}
            name="program"
            value={place.program}
            most={127}
            onKeep={(program) => onPlace({ ...place, program })}
          />
        </>
      )}
    </div>
  );
}

function Count(props: { label: string; name: string; value: number; most: number; onKeep: (value: number) => void }) {
  const { label, name, value, most, onKeep } = props;
  const keep = (text: string) => {
    const number = Number(text);
    if (text.trim() === "" || !Number.isInteger(number) || number < 0 || number > most) return false;
    return void onKeep(number);
  };
  return (
    <span className="flex items-center gap-1 text-[12px] text-ink3">
      {name}
      <Written quiet label={label} value={String(value)} onKeep={keep} className="num !w-14 !py-0.5 text-right" />
    </span>
  );
}
