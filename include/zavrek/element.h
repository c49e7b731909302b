/* Elements of one's own: the interface of a shared library that is an element of a network. To the network it
 * is, at each instant, conductances and history currents, i = G v + J, along its ends (from a phase of its
 * first bus to the same phase of its second one, or to ground); what it remembers are its states, which stand
 * in the plant, so that going back to an event, saving and cloning take them along. A library keeps nothing
 * else: every function gets all that it may use, and may be called for several plants at once. Units are SI.
 *
 *     [own_element.lamps]
 *     library = "libfilament.so"
 *     between = ["berth", "ground"]
 *     parameters = ["rated_power: 2 kW"]
 *
 * A step of h seconds is whole (the trapezoidal rule: what stands at both of its ends counts) or, behind an
 * event, one of half steps of h / 2 (backward Euler: what stands at its end counts alone). The conductance is
 * the same for both: of an inductance, h / (2 L). */
#ifndef ZAVREK_ELEMENT_H
#define ZAVREK_ELEMENT_H

#ifdef __cplusplus
extern "C" {
#endif

#define ZAVREK_ELEMENT_VERSION 1

typedef struct {
  const char *name, *unit; /* "" for a plain number */
  double start, least, most;
  int changeable; /* may be turned while a plant runs: a knob NAME.PARAMETER. Then it may act on the history
                     only, unless the element varies */
} zavrek_element_parameter;

typedef struct {
  const char *name, *unit; /* a signal NAME.STATE; of none where the name is null */
} zavrek_element_state;

typedef struct {
  double h;     /* step of the plant, s */
  int whole;    /* 1: a whole step; 0: half of one, by backward Euler */
  double until; /* time at its end, s */
  double omega; /* of the network, rad/s */
} zavrek_element_span;

typedef struct {
  int version;     /* ZAVREK_ELEMENT_VERSION */
  const char* doc; /* a line */
  int ends;        /* 1: one for each phase, alone; 3: three phases together; 1 to 12 */
  int states, parameters;
  const zavrek_element_state* state; /* so many */
  const zavrek_element_parameter* parameter;
  int varies; /* whether the conductance changes from step to step */

  /* ends x ends, row by row, symmetric, positive semidefinite: at the start, and always where it does not
   * vary. */
  void (*conductance)(const double* parameters, double h, double* g);
  /* The steady state at `omega`, with j s in place of d/dt: y of ends x ends, real parts, then imaginary
   * ones. */
  void (*admittance)(const double* parameters, double s, double omega, double* y);
  /* Its states at t = 0, from phasors (peak, of cos) of voltages and currents: real parts, then imaginary
     ones. May be null where there are no states. */
  void (*start)(const double* parameters, double s, double omega, const double* v, const double* i,
                double* states);
  /* Ahead of a solution: history currents, from states, voltages and currents at the beginning of the span.
     One that varies writes its conductance into `g`, which holds the latest, and returns whether that
     changed. */
  int (*begin)(const zavrek_element_span* span, const double* parameters, const double* states,
               const double* v, const double* i, double* history, double* g);
  /* Behind it: states at the end of the span, from those at its beginning and the voltages and currents at
     its end. May be null where there are no states. */
  void (*finish)(const zavrek_element_span* span, const double* parameters, const double* states,
                 const double* v, const double* i, double* states_at_end);
} zavrek_element;

/* What a library exports. */
const zavrek_element* zavrek_element_describe(void);

#ifdef __cplusplus
}
#endif

#endif
