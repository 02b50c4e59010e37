/* What generated code works on. Written in the part of C11 that is also C++: generated code carries a copy. */
#ifndef ISODYNE_MEMORY_H
#define ISODYNE_MEMORY_H

#include <stdint.h>

typedef struct iso_change {
  int32_t machine, transition;
  int64_t at_ns;
} iso_change;

/* Why a plant cannot go on: 0 it can, 1 a state is not finite, 2 a state machine reverses without end, 3 `when` blocks
 * set each other off without end, 4 an equation has no solution, 5 a matrix is singular, 7 a network cannot go on. */
typedef struct iso_trouble {
  int32_t kind, index;
  double last_good;
} iso_trouble;

typedef struct iso_memory {
  int64_t* now;        /* ns */
  double* v;           /* every quantity, SI */
  double* next;        /* per state: at the end of its group's step */
  double* history;     /* of the delays: one ring after another */
  int64_t* remembered; /* per delay: samples taken */
  int32_t* reversals;  /* per state machine: instants in a row with a transition */
  char* event_was;     /* per `when`: its condition, when last looked at */
  char* event_late;    /* per `when`: fired in the later rounds of this instant */
  int32_t* unsolved;   /* the equation that had no solution; -1: none */
  int32_t* entered;    /* 1: the modes at the start have been entered */
  int32_t* endless;    /* 1: `when` blocks set each other off without end */
  iso_change* changes; /* transitions taken; room for all of one step */
  int32_t* change_count;
  double* known;      /* what methods keep: zeros at first */
  double* work;       /* scratch */
  double* doubt;      /* of implicit steps, five: see iso_implicit */
  const char* tapped; /* per tap: a fault is active */
  double (*tap)(void* host, int32_t tap, double value, double now);
  void* host;
  int32_t sensing;                               /* 0: no sensor is due */
  void (*sample)(void* sensors, int32_t sensor); /* 0: sensors are ideal, they give what they measure */
  void* sensors;
  void (*instant)(void* watcher); /* an instant between two of the bench is settled; 0: nobody looks */
  void* watcher;
  /* Networks of a group: a step from now on; gives -1, or the one that cannot go on. Then that it has arrived. */
  int32_t (*network_step)(void* networks, int32_t group);
  void (*network_arrive)(void* networks, int32_t group);
  void* networks;
  int32_t idle_wanted; /* what is idle between two instants of the bench is computed there all the same */
  int32_t still; /* nothing is computed between two instants of the bench: see NetworkStepping::still() */
} iso_memory;

#endif
