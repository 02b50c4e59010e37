/* The controller of the lock as a program of its own, at the other end of a link. */
#include "isodyne/link.h"

#include "lockctl_channels.h"

int main(int count, char **words) {
  static isodyne_link link;
  plc_reads reads;
  plc_writes writes = {0};
  void *self;
  int64_t time_ns;
  /* Without an address it is the one that the bench leaves in ISODYNE_LINK when it starts this program. */
  if (isodyne_link_open(&link, count > 1 ? words[1] : NULL, &isodyne_info, 10000) != 0 ||
      isodyne_init(&self, link.period_ns) != 0) {
    fprintf(stderr, "lockctl_program: %s\n", link.trouble != NULL ? link.trouble : "the controller did not start");
    return 1;
  }
  printf("linked, one exchange each %.3f ms\n", (double)link.period_ns * 1e-6);
  fflush(stdout);
  int more;
  while ((more = isodyne_link_wait(&link, &reads, &time_ns)) > 0) {
    const int code = isodyne_step(self, time_ns, &reads, &writes);
    if (code != 0) {
      isodyne_link_bye(&link, (unsigned)code);
      return 1;
    }
    isodyne_link_answer(&link, &writes);
  }
  isodyne_close(self);
  if (more < 0) fprintf(stderr, "lockctl_program: %s\n", link.trouble);
  isodyne_link_close(&link);
  return more < 0;
}
