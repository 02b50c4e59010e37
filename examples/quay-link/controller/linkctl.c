/* Controller of the link: a shift by hand, or a regulator of the output voltage. */
#include "linkctl_channels.h"

#include <stdlib.h>

const isodyne_controller_info isodyne_info = CTL_INFO;

static const double kPeriod = 20e-6;   /* s */
static const double kDegree = 0.017453292519943295; /* rad */
static const double kMost = 60.0;      /* degrees */

typedef struct {
  double sum; /* degrees */
} Control;

int isodyne_init(void **self, int64_t period_ns) {
  if (period_ns != CTL_PERIOD_NS) return 1;
  *self = calloc(1, sizeof(Control));
  return *self == NULL ? 2 : 0;
}

void isodyne_close(void *self) {
  free(self);
}

static double limited(double x) {
  return x > kMost ? kMost : x < -kMost ? -kMost : x;
}

int isodyne_step(void *self, int64_t time_ns, const ctl_reads *r, ctl_writes *w) {
  Control *c = self;
  (void)time_ns;
  const double degrees = (r->wish - r->out_volts) / r->proportional;
  if (r->closed_loop) {
    c->sum = limited(c->sum + degrees * kPeriod / r->integral_time);
    w->shift = kDegree * limited(degrees + c->sum);
  } else {
    c->sum = limited(r->by_hand / kDegree); /* so that the regulator takes over where the hand has left it */
    w->shift = kDegree * c->sum;
  }
  w->error = r->wish - r->out_volts;
  return 0;
}

/* All it remembers is in its memory: a copy of the process has a controller of its own. */
int isodyne_copied(void *self) {
  (void)self;
  return 0;
}
