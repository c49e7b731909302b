/* What a driver of converters and contacts implements, as a shared library, so that a bench can use a card:
 * volts out and in, contacts out and in. Plain C; nothing of Zavrek is linked.
 *
 * A run opens the card before it starts and closes it at its end. In between, on the thread of the plant and
 * once in each of its steps, it calls `read` ahead of the step and `write` behind it. Both must return within
 * microseconds: no waiting, no allocation, no system call that may block; what takes longer belongs to a
 * thread of the driver's own. The library runs in the tool's process and is trusted.
 */
#ifndef ZAVREK_CARD_H
#define ZAVREK_CARD_H

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define ZAVREK_CARD_VERSION 1

typedef struct zavrek_card zavrek_card; /* the driver's own */

/* What the card has, filled in by `open`. */
typedef struct {
  uint32_t analogue_outputs, analogue_inputs, contact_outputs, contact_inputs;
  double range_V; /* of its converters: -range_V to range_V */
  uint32_t bits;  /* of them, sign included */
} zavrek_card_limits;

typedef struct {
  uint32_t version; /* ZAVREK_CARD_VERSION */
  /* `address` is what the bench says ("0", "/dev/...", "192.168.1.20"). NULL when it cannot be opened: why
   * stands in `why` then, a text of at most `size` bytes with its end. */
  zavrek_card* (*open)(const char* address, zavrek_card_limits* limits, char* why, size_t size);
  /* All inputs as they are: volts at the converters; contacts 0 (open) or 1 (closed). 0 when that went well.
   */
  int (*read)(zavrek_card* card, double* analogue_V, double* contacts);
  /* All outputs, as `read` has them. 0 when that went well. */
  int (*write)(zavrek_card* card, const double* analogue_V, const double* contacts);
  void (*close)(zavrek_card* card);
} zavrek_card_driver;

/* The one function that the library exports. */
const zavrek_card_driver* zavrek_card_entry(void);

#ifdef __cplusplus
}
#endif

#endif
