// Fetches audio of takes from Ladder's server.
import { Loading, type LoadWish, type Piece } from "./loading";
import type { Wanted } from "./slabs";

export interface FromTake extends Wanted {
  /** The take's number, and after a `~` the name of what cleaning makes of it. */
  source: string;
  first_channel: number;
  /** Of the recording, from which they are made. */
  source_channels: number;
}

const HEADS_AT_ONCE = 64;

async function bytesOf(asked: Promise<Response>): Promise<ArrayBuffer | undefined> {
  const response = await asked;
  return response.ok ? response.arrayBuffer() : undefined;
}

function one({ sample, first, end }: Piece<FromTake>): Promise<ArrayBuffer | undefined> {
  const [take, name] = sample.source.split("~");
  const version = name ? `&version=cleaned&name=${name}` : "";
  return bytesOf(
    fetch(
      `/api/takes/${take}/audio?first=${first}&end=${end}&first_channel=${sample.first_channel}&channels=${sample.source_channels}${version}`,
    ),
  );
}

/** Many heads by one request: of each a number of frames, 32 bits, and so many; none where it cannot be read. */
async function heads(pieces: Piece<FromTake>[]): Promise<(ArrayBuffer | undefined)[] | undefined> {
  const body = pieces.map(({ sample, first, end }) => {
    const [take, name] = sample.source.split("~");
    return { take: Number(take), name, first, end, first_channel: sample.first_channel, channels: sample.source_channels };
  });
  const headers = { "Content-Type": "application/json" };
  const bytes = await bytesOf(fetch("/api/heads", { method: "POST", headers, body: JSON.stringify(body) }));
  if (!bytes) return undefined;
  let at = 0;
  return pieces.map(({ sample }) => {
    const frames = at + 4 <= bytes.byteLength ? new DataView(bytes).getUint32(at, true) : 0;
    const length = frames * sample.channels * 4;
    const head = frames > 0 ? bytes.slice(at + 4, at + 4 + length) : undefined;
    at += 4 + length;
    return head;
  });
}

const loading = new Loading<FromTake>({ one, heads, headsAtOnce: HEADS_AT_ONCE, rest: true });
onmessage = (event: MessageEvent<LoadWish>) => loading.hear(event.data);
