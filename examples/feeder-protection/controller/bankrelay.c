/* Differential protection of the bank at the pumps.
 *
 * Every millisecond it takes six currents, three into the bank and three out of it, as its current transformers give
 * them. Of each phase it keeps a period of 20 ms and finds the fundamental of the difference, its second harmonic, and
 * how much flows through. It trips when the difference is more than what flows through excuses, unless the second
 * harmonic says that a core is being magnetised.
 *
 * Known weakness, kept on purpose: it looks at the second harmonic of each phase by itself.
 */
#include "bankrelay_channels.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

const isodyne_controller_info isodyne_info = RELAY_INFO;

enum { PHASES = 3, SAMPLES = 20 };

static const double PICK_UP = 0.12;    /* A of the secondary side, peak */
static const double SLOPE = 0.4;       /* of what flows through */
static const double HARMONIC = 0.15;   /* of the difference: from here on it is an inrush */
static const int DWELL = 4;            /* ms */

typedef struct relay {
  double difference[PHASES][SAMPLES], through[PHASES][SAMPLES];
  int at, filled, beyond;
  bool trip;
} relay;

/* Peak of the n-th harmonic of a period. */
static double harmonic(const double *samples, int at, int n) {
  double re = 0, im = 0;
  for (int k = 0; k < SAMPLES; ++k) {
    const double angle = 2 * 3.14159265358979 * n * k / SAMPLES;
    const double x = samples[(at + k) % SAMPLES];
    re += x * cos(angle);
    im += x * sin(angle);
  }
  return sqrt(re * re + im * im) * 2 / SAMPLES;
}

static bool beyond_in(relay *r, int phase, relay_writes *w) {
  const double *d = r->difference[phase];
  const double first = harmonic(d, r->at, 1), second = harmonic(d, r->at, 2);
  double through = 0;
  for (int k = 0; k < SAMPLES; ++k) through += r->through[phase][k] / SAMPLES;
  if (first > w->operating) {
    w->operating = first;
    w->second = second;
    w->restraint = through;
  }
  return first > PICK_UP + SLOPE * through && second < HARMONIC * first;
}

int isodyne_init(void **self, int64_t period_ns) {
  if (period_ns != 1000000) return 1;
  *self = calloc(1, sizeof(relay));
  return *self == NULL;
}

int isodyne_step(void *self, int64_t time_ns, const relay_reads *reads, relay_writes *writes) {
  relay *r = self;
  (void)time_ns;
  const double into[PHASES] = {reads->into_1, reads->into_2, reads->into_3};
  const double out[PHASES] = {reads->out_1, reads->out_2, reads->out_3};
  for (int p = 0; p < PHASES; ++p) {
    r->difference[p][r->at] = into[p] - out[p];
    r->through[p][r->at] = (fabs(into[p]) + fabs(out[p])) / 2;
  }
  r->at = (r->at + 1) % SAMPLES;
  if (r->filled < SAMPLES) ++r->filled;
  writes->operating = writes->second = writes->restraint = 0;
  bool beyond = false;
  for (int p = 0; p < PHASES; ++p) beyond = beyond_in(r, p, writes) || beyond;
  r->beyond = beyond && r->filled == SAMPLES ? r->beyond + 1 : 0;
  r->trip = r->trip || r->beyond >= DWELL; /* latched until it is started anew */
  writes->trip = r->trip;
  return 0;
}

void isodyne_close(void *self) { free(self); }

/* All it remembers is in its memory: a copy of the process has a controller of its own. */
int isodyne_copied(void *self) {
  (void)self;
  return 0;
}
