/* A case as a model of its own: one shared library, made by `zavrek export CASE --as library`, with this
 * plain C interface and nothing else to be found beside it. It wants a processor as its manifest names it,
 * and the C library.
 *
 *   #include <zavrek/model.h>
 *   char why[200];
 *   zavrek_model* m = zavrek_model_open(why, sizeof why);
 *   int va = zavrek_model_find(m, ZAVREK_OUTPUT, "low.va");
 *   zavrek_model_set(m, ZAVREK_INPUT, zavrek_model_find(m, ZAVREK_INPUT, "Q0"), 0);   (opens a breaker)
 *   while (zavrek_model_step(m) == ZAVREK_WELL) printf("%g %g\n", zavrek_model_time(m), zavrek_model_get(m,
 * ZAVREK_OUTPUT, va)); zavrek_model_close(m);
 *
 * All numbers are in SI units; of a switch 1 is closed and 0 open. Any number of models may be open in a
 * process, each used by one thread at a time. A step allocates nothing and takes no lock; open, save, restore
 * and reset do.
 */
#ifndef ZAVREK_MODEL_H
#define ZAVREK_MODEL_H

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define ZAVREK_MODEL_VERSION 1

typedef struct zavrek_model zavrek_model;

/* What a variable is. Inputs are what operates: switches and set points of the control; parameters are all
 * other knobs. Both may change between any two steps. */
enum { ZAVREK_INPUT = 0, ZAVREK_PARAMETER = 1, ZAVREK_OUTPUT = 2 };
/* What calls return. ZAVREK_NOT_THERE: no such kind or number. ZAVREK_NOT_A_NUMBER: a value that is not
 * finite. ZAVREK_ENDED: the model cannot go on (zavrek_model_text says why) until it is set back.
 * ZAVREK_NOT_ITS_STATE: bytes that this model did not save. ZAVREK_NO_MEMORY. */
enum {
  ZAVREK_WELL = 0,
  ZAVREK_NOT_THERE = 1,
  ZAVREK_NOT_A_NUMBER = 2,
  ZAVREK_ENDED = 3,
  ZAVREK_NOT_ITS_STATE = 4,
  ZAVREK_NO_MEMORY = 5
};

/* ZAVREK_MODEL_VERSION of the library. */
int zavrek_model_version(void);
/* JSON: what it was made from, its step, all variables with unit, start and bounds, what a step cost where it
 * was made. */
const char* zavrek_model_manifest(void);

/* A model at its start (t = 0). NULL when it cannot be made: why stands in `why` then, at most `size` bytes
 * with its end. */
zavrek_model* zavrek_model_open(char* why, size_t size);
void zavrek_model_close(zavrek_model* model);

double zavrek_model_step_length(const zavrek_model* model); /* s */
double zavrek_model_time(const zavrek_model* model);        /* s, of the values that can be read now */

int zavrek_model_count(const zavrek_model* model, int kind);                    /* 0 for no such kind */
const char* zavrek_model_name(const zavrek_model* model, int kind, int number); /* NULL for none */
const char* zavrek_model_unit(const zavrek_model* model, int kind, int number); /* "" for a pure number */
int zavrek_model_find(const zavrek_model* model, int kind, const char* name);   /* its number; -1 for none */

/* Kept within its bounds; acts from the next step on. */
int zavrek_model_set(zavrek_model* model, int kind, int number, double value);
/* Of an input or parameter what was set last; NaN for what is not there. */
double zavrek_model_get(const zavrek_model* model, int kind, int number);

/* By one step. */
int zavrek_model_step(zavrek_model* model);
/* Why it cannot go on; "" while all is well. */
const char* zavrek_model_text(const zavrek_model* model);

/* How many bytes `save` writes as the model stands. */
size_t zavrek_model_state_size(zavrek_model* model);
/* All that steps and settings change. What follows a restored state is the same to the bit. */
int zavrek_model_save(zavrek_model* model, void* bytes, size_t size);
int zavrek_model_restore(zavrek_model* model, const void* bytes, size_t size);
/* Back to its start. */
int zavrek_model_reset(zavrek_model* model);

#ifdef __cplusplus
}
#endif

#endif
