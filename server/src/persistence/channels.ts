/** What is told through PostgreSQL's notifications, and to whom. */

/** To workers: there is something to do. */
export const jobChannel = 'anchor_knot_job';
/** To servers: the row of a run has changed; its id. */
export const runChannel = 'anchor_knot_run';
/** To servers: a draft was kept; a `DraftEvent`. */
export const draftChannel = 'anchor_knot_draft';
