// The page that plays: a panel and its keys, of one instrument or of several that are chosen from a list.
import { Choice } from "../parts/Choice";
import { PictureAt } from "../parts/pictures";
import { PlayingBoard } from "../parts/PlayingBoard";
import { sayError } from "../state/view";
import { About } from "./About";
import { choose, useFolder } from "./folder";

export function Played() {
  const { contents, place, view } = useFolder();
  if (!contents || !view) return <p className="p-6 text-ink3">Opening…</p>;
  // Within another page, that page says what it is.
  const within = new URLSearchParams(location.search).has("embed");
  const several = contents.instruments.length > 1;
  return (
    <PictureAt value={(hash) => view.pictures[hash]}>
      <PlayingBoard
        key={view.id}
        view={view}
        kinds={contents.effects}
        name={
          several ? (
            <div className="w-52">
              <Choice
                quiet
                label="Instrument"
                value={String(place)}
                options={contents.instruments.map(({ name }, n) => ({ value: String(n), name }))}
                onChange={(next) => void choose(Number(next)).catch(sayError)}
              />
            </div>
          ) : within ? null : (
            <h1 className="mr-2 min-w-0 truncate text-[15px] font-semibold">{view.name}</h1>
          )
        }
        end={<About />}
      />
    </PictureAt>
  );
}
