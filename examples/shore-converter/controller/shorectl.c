/* Controller of the ferry's shore converter: finds the phase of the quay's voltage, makes the same, closes the breaker,
 * and then controls the current, in a frame that turns with the voltage. Amplitudes throughout. */
#include "shorectl_channels.h"

#include <math.h>
#include <stdlib.h>

const isodyne_controller_info isodyne_info = CTL_INFO;

static const double kPeriod = 50e-6;        /* s, of the control and of the carrier */
static const double kDeadTime = 0.6e-6;     /* s */
static const double kNominal = 314.159265;  /* rad/s */
static const double kGain = 1.3;            /* V/A */
static const double kIntegral = 260.0;      /* V/(A s) */
static const double kInductance = 0.5e-3;   /* H, of a choke */
static const double kMostIntegral = 80.0;   /* V */
static const double kMostCurrent = 380.0;   /* A: more is a trip */
static const double kLeast = 70.0;          /* V: a phase of less, rectified and smoothed, is a trip */
static const double kSmooth = 2.5e-3;       /* s */
static const double kAgree = 12.0;          /* V: so far the two sides may be apart */
static const double kAgreeFor = 20e-3;      /* s */
static const double kVoltage = 325.0;       /* V */

typedef struct {
  double angle, slip;          /* of the quay's voltage: rad, rad/s beside the nominal frequency */
  double sum_d, sum_q;         /* V */
  double agreed, connected;    /* s, since when */
  double there[3];             /* V: of each phase of the quay, rectified and smoothed */
  int32_t stage;
} Control;

int isodyne_init(void **self, int64_t period_ns) {
  if (period_ns != CTL_PERIOD_NS) return 1;
  *self = calloc(1, sizeof(Control));
  return *self == NULL ? 2 : 0;
}

void isodyne_close(void *self) {
  free(self);
}

static double limited(double x, double most) {
  return x > most ? most : x < -most ? -most : x;
}

/* Into the frame that stands at `angle`. */
static void turn(const double x[3], double angle, double *d, double *q) {
  const double a = (2 * x[0] - x[1] - x[2]) / 3, b = (x[1] - x[2]) / sqrt(3.0);
  *d = a * cos(angle) + b * sin(angle);
  *q = b * cos(angle) - a * sin(angle);
}

/* One leg over the next period: the upper transistor is on for a share of it, in the middle; the lower one is the
 * complement; each comes on a dead time after the other has gone. */
static void pulse(isodyne_gate *upper, isodyne_gate *lower, double share) {
  const double off = kPeriod * (1 - share) / 2;
  const int32_t rise = (int32_t)lround(1e9 * off), fall = (int32_t)lround(1e9 * (kPeriod - off));
  const int32_t dead = (int32_t)lround(1e9 * kDeadTime);
  *upper = (isodyne_gate){.on = false, .edges = 2, .at_ns = {rise + dead, fall}};
  *lower = (isodyne_gate){.on = true, .edges = 2, .at_ns = {rise, fall + dead}};
}

/* All transistors off. */
static void rest(ctl_writes *w) {
  for (int k = 0; k < 6; ++k) w->gate[k] = (isodyne_gate){.on = false};
}

/* Too much current, or a phase of the quay that is gone: the current is held, so a short shows in the voltage. */
static bool trips(Control *c, const ctl_reads *r) {
  double most = 0, least = kVoltage;
  for (int k = 0; k < 3; ++k) {
    c->there[k] += (fabs(r->quay_volts[k]) - c->there[k]) * kPeriod / kSmooth;
    least = fmin(least, c->there[k]);
    most = fmax(most, fabs(r->current[k]));
  }
  return most > kMostCurrent || (c->stage == STAGE_FEEDING && least < kLeast);
}

static int32_t next_stage(Control *c, const ctl_reads *r, double mismatch) {
  c->agreed = mismatch < kAgree ? c->agreed + kPeriod : 0;
  c->connected = r->closed ? c->connected + kPeriod : 0;
  if (trips(c, r) || c->stage == STAGE_TRIPPED) return STAGE_TRIPPED;
  if (!r->wanted) return STAGE_OFF;
  switch (c->stage) {
    case STAGE_OFF:
      return STAGE_SYNCHRONISING;
    case STAGE_SYNCHRONISING:
      return c->agreed > kAgreeFor ? STAGE_CONNECTING : STAGE_SYNCHRONISING;
    case STAGE_CONNECTING:
      return c->connected > 5e-3 ? STAGE_FEEDING : STAGE_CONNECTING;
    default:
      return STAGE_FEEDING;
  }
}

int isodyne_step(void *self, int64_t time_ns, const ctl_reads *r, ctl_writes *w) {
  Control *c = self;
  (void)time_ns;
  double vd, vq, id, iq, sd, sq;
  turn(r->quay_volts, c->angle, &vd, &vq);
  turn(r->side_volts, c->angle, &sd, &sq);
  turn(r->current, c->angle, &id, &iq);

  const double mismatch = hypot(sd - vd, sq - vq);
  const int32_t stage = next_stage(c, r, mismatch);
  if (stage != c->stage) c->sum_d = c->sum_q = 0;
  c->stage = stage;

  /* The voltage to be made: that of the quay, and what drives the current. */
  double ud = vd, uq = vq;
  if (stage == STAGE_FEEDING || (stage == STAGE_CONNECTING && r->closed)) {
    const double ed = r->set_active - id, eq = r->set_reactive - iq;
    c->sum_d = limited(c->sum_d + kIntegral * ed * kPeriod, kMostIntegral);
    c->sum_q = limited(c->sum_q + kIntegral * eq * kPeriod, kMostIntegral);
    ud += kGain * ed + c->sum_d - kNominal * kInductance * iq;
    uq += kGain * eq + c->sum_q + kNominal * kInductance * id;
  }

  /* What is asked now is there one and a half periods later, on the average. */
  const double speed = kNominal + c->slip, ahead = c->angle + 1.5 * kPeriod * speed;
  const double third = 2.0943951023931953;
  for (int k = 0; k < 3; ++k) {
    const double at = ahead - k * third;
    double volts = ud * cos(at) - uq * sin(at);
    /* The dead time takes from the pulse what the current gives to the diode. */
    volts += r->link_volts * kDeadTime / kPeriod * limited(r->current[k] / 8.0, 1);
    pulse(&w->gate[2 * k], &w->gate[2 * k + 1], 0.5 + limited(volts / fmax(r->link_volts, 100.0), 0.475));
  }
  if (stage == STAGE_OFF || stage == STAGE_TRIPPED) rest(w);

  /* The angle follows the quay's voltage. */
  const double off = limited(vq / kVoltage, 1);
  c->slip = limited(c->slip + 6000 * off * kPeriod, 60);
  c->angle = fmod(c->angle + (speed + 150 * off) * kPeriod, 6.283185307179586);

  w->connect = stage == STAGE_CONNECTING || stage == STAGE_FEEDING;
  w->stage = stage;
  w->active = id;
  w->reactive = iq;
  w->mismatch = mismatch;
  return 0;
}

/* All it remembers is in its memory: a copy of the process has a controller of its own. */
int isodyne_copied(void *self) {
  (void)self;
  return 0;
}
