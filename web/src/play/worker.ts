// Keeps the page itself, so that it opens offline. Audio is kept by whoever fetches it.

interface Extended extends Event {
  waitUntil: (done: Promise<unknown>) => void;
}
interface Fetched extends Extended {
  readonly request: Request;
  respondWith: (answer: Promise<Response>) => void;
}
interface Scope {
  readonly registration: { readonly scope: string };
  readonly clients: { claim: () => Promise<void> };
  skipWaiting: () => Promise<void>;
  addEventListener: (<T extends Extended>(kind: "install" | "activate", heard: (event: T) => void) => void) &
    ((kind: "fetch", heard: (event: Fetched) => void) => void);
}

const scope = self as unknown as Scope;
/** Written over with the version of the folder. */
const VERSION = "ladder-version";
const FOLDER = scope.registration.scope;
const PAGE = `${FOLDER} page ${VERSION}`;

async function install(): Promise<void> {
  const listed = (await (await fetch("files.json", { cache: "reload" })).json()) as { page: string[] };
  const cache = await caches.open(PAGE);
  await cache.addAll(listed.page.map((path) => new Request(new URL(path, FOLDER), { cache: "reload" })));
  await scope.skipWaiting();
}

/** Pages of other versions go. */
async function clean(): Promise<void> {
  for (const name of await caches.keys()) if (name.startsWith(`${FOLDER} page `) && name !== PAGE) await caches.delete(name);
  await scope.clients.claim();
}

async function answered(request: Request): Promise<Response> {
  const url = new URL(request.url);
  const path = url.origin + url.pathname;
  const cache = await caches.open(PAGE);
  const known = await cache.match(path === FOLDER ? new URL("index.html", FOLDER) : path);
  return known ?? fetch(request);
}

scope.addEventListener("install", (event: Extended) => event.waitUntil(install()));
scope.addEventListener("activate", (event: Extended) => event.waitUntil(clean()));
scope.addEventListener("fetch", (event) => {
  const { request } = event;
  if (request.method === "GET" && request.url.startsWith(FOLDER)) event.respondWith(answered(request));
});
