// Where pictures of panels lie, by their hashes; nowhere, where one was not given along.
import { createContext } from "react";

export const PictureAt = createContext((hash: string): string | undefined => `/api/pictures/${hash}`);
