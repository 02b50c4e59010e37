/* The controller's side of the link benchmark: the C client as it is shipped. LINK_ECHO names the function. */
#define _GNU_SOURCE 1
#include "isodyne/link.h"

int LINK_ECHO(const char *address, uint64_t layout, uint32_t bytes);

int LINK_ECHO(const char *address, uint64_t layout, uint32_t bytes) {
  static isodyne_link link;
  static unsigned char values[ISODYNE_LINK_MOST];
  const isodyne_controller_info info = {ISODYNE_CONTROLLER_VERSION, bytes, bytes, 0, layout};
  int64_t time_ns;
  if (isodyne_link_open(&link, address, &info, 5000) != 0) return 1;
  while (isodyne_link_wait(&link, values, &time_ns) > 0) isodyne_link_answer(&link, values);
  isodyne_link_close(&link);
  return 0;
}
