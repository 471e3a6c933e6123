// The name, and the way back to the shelf.
import { Link } from "@tanstack/react-router";

export function Brand() {
  return (
    <Link to="/" className="flex shrink-0 items-center gap-2.5 text-[16px] font-semibold" aria-label="Ladder: to the shelf">
      <img src="/icon.svg" alt="" width={24} height={24} />
      Ladder
    </Link>
  );
}
