/** Whether a freeze is about to be set. Which hold is reported by the live connection. */
class Freezes {
  isAsking = $state(false);
}

export const freezes = new Freezes();
