/* The controller of the lock behind an MQTT broker: it listens to harrow/plc/to/NAME and publishes harrow/plc/from/NAME. */
#include <mosquitto.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "lockctl_channels.h"

#define TOPIC "harrow/plc"

static plc_reads reads;
static int ended;

static void on_message(struct mosquitto *m, void *user, const struct mosquitto_message *message) {
  (void)m;
  (void)user;
  char text[32] = {0};
  const char *name = message->topic + strlen(TOPIC) + 1;
  if (message->payloadlen <= 0 || message->payloadlen >= (int)sizeof text) return;
  memcpy(text, message->payload, (size_t)message->payloadlen);
  const bool on = strcmp(text, "true") == 0;
  if (strcmp(name, "bench") == 0) ended = strcmp(text, "ended") == 0;
  if (strcmp(name, "to/chamber_level") == 0) reads.chamber_level = atof(text);
  if (strcmp(name, "to/pound_level") == 0) reads.pound_level = atof(text);
  if (strcmp(name, "to/tail_level") == 0) reads.tail_level = atof(text);
  if (strcmp(name, "to/upper_open") == 0) reads.upper_open = on;
  if (strcmp(name, "to/upper_shut") == 0) reads.upper_shut = on;
  if (strcmp(name, "to/lower_open") == 0) reads.lower_open = on;
  if (strcmp(name, "to/lower_shut") == 0) reads.lower_shut = on;
  if (strcmp(name, "to/berth_taken") == 0) reads.berth_taken = on;
  if (strcmp(name, "to/gate_taken") == 0) reads.gate_taken = on;
  if (strcmp(name, "to/request") == 0)
    reads.request = strcmp(text, "up") == 0 ? REQUEST_UP : strcmp(text, "down") == 0 ? REQUEST_DOWN : REQUEST_NONE;
}

/* Publishes what has changed; `last` is what was published before. */
static void say(struct mosquitto *m, const char *name, const char *text, char last[32]) {
  char topic[64];
  if (strcmp(text, last) == 0) return;
  snprintf(last, 32, "%s", text);
  snprintf(topic, sizeof topic, TOPIC "/from/%s", name);
  mosquitto_publish(m, NULL, topic, (int)strlen(text), text, 0, false);
}

static void say_all(struct mosquitto *m, const plc_writes *w) {
  static char last[8][32];
  static const char *const gates[] = {"none", "open", "shut"};
  char text[32];
  snprintf(text, sizeof text, "%g", 100.0 * w->fill_paddle); /* % */
  say(m, "fill_paddle", text, last[0]);
  snprintf(text, sizeof text, "%g", 100.0 * w->drain_paddle);
  say(m, "drain_paddle", text, last[1]);
  say(m, "upper_gate", gates[w->upper_gate], last[2]);
  say(m, "lower_gate", gates[w->lower_gate], last[3]);
  say(m, "upper_light", w->upper_light ? "true" : "false", last[4]);
  say(m, "lower_light", w->lower_light ? "true" : "false", last[5]);
  say(m, "plc.alarm", w->alarm ? "true" : "false", last[6]);
  snprintf(text, sizeof text, "%d", (int)w->phase);
  say(m, "plc.phase", text, last[7]);
}

int main(int count, char **words) {
  const char *host = count > 1 ? words[1] : "127.0.0.1";
  const int port = count > 2 ? atoi(words[2]) : 1883;
  mosquitto_lib_init();
  struct mosquitto *m = mosquitto_new(NULL, true, NULL);
  void *self;
  if (m == NULL || isodyne_init(&self, PLC_PERIOD_NS) != 0) return 1;
  mosquitto_will_set(m, TOPIC "/controller", 4, "lost", 1, true);
  mosquitto_message_callback_set(m, on_message);
  if (mosquitto_connect(m, host, port, 5) != MOSQ_ERR_SUCCESS) {
    fprintf(stderr, "lockctl_mqtt: no broker answers at %s:%d\n", host, port);
    return 1;
  }
  mosquitto_subscribe(m, NULL, TOPIC "/to/#", 1);
  mosquitto_subscribe(m, NULL, TOPIC "/bench", 1);
  mosquitto_publish(m, NULL, TOPIC "/controller", 5, "ready", 1, true);
  mosquitto_loop_start(m);
  const struct timespec period = {0, (long)PLC_PERIOD_NS};
  plc_writes writes = {0};
  for (int64_t time_ns = 0; !ended; time_ns += PLC_PERIOD_NS) {
    plc_reads now = reads; /* a message that arrives meanwhile counts in the next turn */
    if (isodyne_step(self, time_ns, &now, &writes) != 0) break;
    say_all(m, &writes);
    nanosleep(&period, NULL);
  }
  mosquitto_disconnect(m);
  mosquitto_loop_stop(m, false);
  isodyne_close(self);
  return 0;
}
