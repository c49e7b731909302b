/* A card whose outputs are wired to its own inputs: four analogue and four contact channels. A driver of real
 * hardware has the same five functions. Built as a shared library and named by `library` of a card:
 *
 *     [card.loop]
 *     library = "loop_back_card.so"
 */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "zavrek/card.h"

#define CHANNELS 4

struct zavrek_card {
  double volts[CHANNELS];
  double contacts[CHANNELS];
};

static zavrek_card* open_card(const char* address, zavrek_card_limits* limits, char* why, size_t size) {
  if (strcmp(address, "loop") != 0) {
    snprintf(why, size, "there is no card %s, only \"loop\"", address);
    return NULL;
  }
  limits->analogue_outputs = limits->analogue_inputs = CHANNELS;
  limits->contact_outputs = limits->contact_inputs = CHANNELS;
  limits->range_V = 10;
  limits->bits = 16;
  return calloc(1, sizeof(zavrek_card));
}

static int read_card(zavrek_card* card, double* analogue_V, double* contacts) {
  memcpy(analogue_V, card->volts, sizeof card->volts);
  memcpy(contacts, card->contacts, sizeof card->contacts);
  return 0;
}

static int write_card(zavrek_card* card, const double* analogue_V, const double* contacts) {
  memcpy(card->volts, analogue_V, sizeof card->volts);
  memcpy(card->contacts, contacts, sizeof card->contacts);
  return 0;
}

static void close_card(zavrek_card* card) { free(card); }

const zavrek_card_driver* zavrek_card_entry(void) {
  static const zavrek_card_driver driver = {ZAVREK_CARD_VERSION, open_card, read_card, write_card,
                                            close_card};
  return &driver;
}
