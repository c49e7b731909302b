/* A controller of your own as a shared library, loaded by an `own` block of control.toml:
 *
 *   [own.my_control]
 *   library = "libmy_control.so"
 *   inputs = ["v: C2.v", "i: L1.ia"]
 *   parameters = ["gain: 0.3"]
 *
 * The library exports the one function `zavrek_controller`. Plain C: any language that can make a shared
 * library will do. Every value is an SI number. */
#ifndef ZAVREK_CONTROLLER_H
#define ZAVREK_CONTROLLER_H

#ifdef __cplusplus
extern "C" {
#endif

#define ZAVREK_CONTROLLER_VERSION 1

typedef struct zavrek_controller_code {
  int version;               /* ZAVREK_CONTROLLER_VERSION */
  const char* const* inputs; /* names, ended by a null pointer; so the next two */
  const char* const* outputs;
  const char* const* parameters;
  /* Called once ahead of the first step; `parameters` in the order of their names, NaN for one that was not
   * given. Returns the state that `step` gets, or a null pointer to refuse. */
  void* (*init)(double period_s, const double* parameters);
  /* Called once per period. Writes all outputs; returns 0, or another number to end the run. */
  int (*step)(void* state, double time_s, const double* inputs, double* outputs);
  /* Called once at the end. */
  void (*end)(void* state);
} zavrek_controller_code;

const zavrek_controller_code* zavrek_controller(void);

#ifdef __cplusplus
}
#endif
#endif
