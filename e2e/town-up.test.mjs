// Every second site of the practice town: signed up at. Two files, as each site takes its time.
import { signedUpAt } from "./signups.mjs";
import { inTown, sites } from "./town.mjs";

inTown(17720);
signedUpAt(Object.keys(sites).filter((_, i) => i % 2 === 0));
