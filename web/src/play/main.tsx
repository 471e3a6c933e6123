// The page that plays, made of the same parts as the workshop.
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { Toast } from "../parts/Toast";
import { player } from "../sound/player";
import { sayError, useView } from "../state/view";
import { folder, open } from "./folder";
import { count } from "./keeping";
import { Played } from "./Played";
import "../theme.css";

/** A newer version of the folder is told; it is there with the next load. */
async function keepPage(): Promise<void> {
  if (!("serviceWorker" in navigator)) return;
  const known = navigator.serviceWorker.controller !== null;
  await navigator.serviceWorker.register("worker.js");
  navigator.serviceWorker.addEventListener("controllerchange", () => {
    if (known) useView.getState().say("A newer version of this instrument is here: load the page again.");
  });
}

// What the page says of itself stays where browsers give no sound.
if (window.isSecureContext && "AudioWorkletNode" in window) {
  player.livesAt(folder);
  createRoot(document.getElementById("root")!).render(
    <StrictMode>
      <Played />
      <Toast />
    </StrictMode>,
  );
  void open()
    .then(() => player.compiled())
    .then(count)
    .catch(sayError);
  // Without it the page plays all the same.
  void keepPage().catch(() => undefined);
}
