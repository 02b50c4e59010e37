/* The controller of the lock as a Modbus client, as a device would be: it asks the bench for its inputs and writes its
 * outputs, by its own clock. The registers are those of ../registers.csv. */
#include <errno.h>
#include <modbus.h>
#include <stdio.h>
#include <string.h>
#include <time.h>

#include "lockctl_channels.h"

/* Numbers over two registers, the word with the high bits first. */
static float real_of(const uint16_t *words) {
  const uint32_t bits = (uint32_t)words[0] << 16 | words[1];
  float value;
  memcpy(&value, &bits, sizeof value);
  return value;
}

static void set_real(float value, uint16_t *words) {
  uint32_t bits;
  memcpy(&bits, &value, sizeof bits);
  words[0] = (uint16_t)(bits >> 16);
  words[1] = (uint16_t)bits;
}

static bool poll_inputs(modbus_t *bench, plc_reads *r) {
  uint16_t words[7];
  uint8_t bits[6];
  if (modbus_read_input_registers(bench, 0, 7, words) != 7 || modbus_read_input_bits(bench, 0, 6, bits) != 6) return false;
  r->chamber_level = real_of(words);
  r->pound_level = real_of(words + 2);
  r->tail_level = real_of(words + 4);
  r->request = words[6];
  r->upper_open = bits[0];
  r->upper_shut = bits[1];
  r->lower_open = bits[2];
  r->lower_shut = bits[3];
  r->berth_taken = bits[4];
  r->gate_taken = bits[5];
  return true;
}

static bool write_outputs(modbus_t *bench, const plc_writes *w) {
  uint16_t words[8];
  const uint8_t bits[3] = {w->upper_light, w->lower_light, w->alarm};
  set_real((float)(100.0 * w->fill_paddle), words); /* % */
  set_real((float)(100.0 * w->drain_paddle), words + 2);
  words[4] = (uint16_t)w->upper_gate;
  words[5] = (uint16_t)w->lower_gate;
  words[6] = (uint16_t)((uint32_t)w->phase >> 16);
  words[7] = (uint16_t)w->phase;
  return modbus_write_registers(bench, 0, 8, words) == 8 && modbus_write_bits(bench, 0, 3, bits) == 3;
}

int main(int count, char **words) {
  const char *host = count > 1 ? words[1] : "127.0.0.1", *port = count > 2 ? words[2] : "1502";
  modbus_t *bench = modbus_new_tcp_pi(host, port);
  void *self;
  if (bench == NULL || isodyne_init(&self, PLC_PERIOD_NS) != 0) return 1;
  const struct timespec wait = {0, 100000000};
  for (int i = 0; modbus_connect(bench) != 0; ++i) {
    if (i == 100) {
      fprintf(stderr, "lockctl_modbus: nothing listens at %s:%s: %s\n", host, port, modbus_strerror(errno));
      return 1;
    }
    nanosleep(&wait, NULL);
  }
  struct timespec next;
  clock_gettime(CLOCK_MONOTONIC, &next);
  plc_reads reads;
  plc_writes writes = {0};
  int64_t time_ns = 0;
  while (poll_inputs(bench, &reads) && isodyne_step(self, time_ns, &reads, &writes) == 0 && write_outputs(bench, &writes)) {
    time_ns += PLC_PERIOD_NS;
    next.tv_nsec += (long)PLC_PERIOD_NS;
    if (next.tv_nsec >= 1000000000) {
      next.tv_nsec -= 1000000000;
      ++next.tv_sec;
    }
    clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &next, NULL);
  }
  isodyne_close(self);
  modbus_close(bench);
  modbus_free(bench);
  return 0;
}
