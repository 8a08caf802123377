// The shelf: a new session, or a look into one.

import * as api from "./api.js";

export const shelf = () => ({
  name: "",
  problem: "",

  async start() {
    try {
      const { id } = await api.newSession(this.name);
      location.assign(`/sessions/${id}`);
    } catch (error) {
      if (!(error instanceof api.ApiError)) throw error;
      this.problem = error.message;
    }
  },
});
