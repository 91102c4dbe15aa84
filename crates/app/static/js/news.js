// @ts-check
/** News of jobs: how far they are, and when parts are to be drawn anew. */
import { told } from "./notes.js";

/**
 * @param {import("./state/model.js").Model} model @param {import("./parts.js").Parts} parts
 * @param {{decoded: () => void, working: () => void, byId: (id: string) => any}} tell
 */
export function heedNews(model, parts, { decoded, working, byId }) {
  const news = new EventSource("/events");
  // A job may have ended before word of it could be heard.
  news.onopen = () => {
    if (!document.querySelector(".job progress")) return;
    decoded();
    parts.reload().catch(told);
  };
  news.onmessage = (event) => {
    const { job, left_s } = JSON.parse(event.data);
    if (job.shot !== model.shot) return;
    const active = job.state === "running" || job.state === "waiting";
    const percent = job.total ? Math.floor((100 * job.done) / job.total) : 0;
    const words = /^(solve|refine|analyse)$/.test(job.kind)
      ? `${job.message} · ${percent} %`
      : `${job.message} frame ${job.done} of ${job.total} · ${percent} %`;
    const line = words + (left_s !== null && active ? ` · ${left_s} s left` : "");
    byId("running").textContent = active ? `${job.kind}: ${line}` : "";
    if (model.working !== active) {
      model.working = active;
      working();
    }
    const box = document.querySelector(`.job[data-job="${job.id}"]`),
      bar = box?.querySelector("progress"),
      reading = box?.querySelector(".job-reading");
    if (active && bar && reading) {
      reading.textContent = line;
      bar.value = percent;
    } else if (!active || !box) {
      if (job.kind === "decode" && !active) decoded();
      const drawn = parts.reload();
      // What it was all for is what it proposes.
      if (job.kind === "analyse" && job.state === "done" && model.station === "track")
        drawn.then(() => parts.openStation("datum")).catch(told);
      else drawn.catch(told);
    }
  };
}
