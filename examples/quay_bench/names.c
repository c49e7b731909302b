/* What a bench asks of the model beside its own functions: where it stands, and its numbers by name. */
#include <string.h>

#include "quay.h"

static quay_model here;
void *quay_here(void) { return &here; }

int quay_number(const char *name)
{
  static const struct {
    const char *name;
    int number;
  } all[] = {{"Q1", quay_in_Q1}, {"fault", quay_in_fault}, {"CT1.ia", quay_out_CT1_ia}, {"Q1.closed", quay_out_Q1_closed}};
  for (unsigned k = 0; k < sizeof all / sizeof all[0]; ++k)
    if (strcmp(all[k].name, name) == 0) return all[k].number;
  return -1;
}
