// The head of a page that the shelf leads to.
import { Link } from "@tanstack/react-router";
import { Brand } from "./Brand";

export function BackToShelf() {
  return (
    <header className="flex h-[52px] items-center gap-2 border-b border-line bg-sheet px-4">
      <Brand />
      <div className="grow" />
      <Link to="/" className="button">
        Back to the shelf
      </Link>
    </header>
  );
}
