#include "HEADER"

#include <math.h>
#include <string.h>

typedef struct NAME_model model;

/* An instant that does not come. */
#define NEVER 1e300
/* Events this close to each other are one. */
#define COINCIDENCE (1e-6 * STEP)
#define EVENTS_PER_STEP 12
#define COMMUTATIONS_PER_EVENT 12
#define TURN 6.283185307179586

/* Rows of tables next to each other: where a compiler knows how, what stands in them becomes part of the code. */
#if defined(__GNUC__) && !defined(__clang__)
#define ROW_BY_ROW _Pragma("GCC unroll 32")
#else
#define ROW_BY_ROW
#endif

enum { PHASES = 4 }; /* of an instrument transformer, side by side; one may hold nothing */
enum { NOW, NEXT, MIDDLE, END, THIRD, EVENT, SLOPE };
enum { OFF, FORWARD, REVERSE };
enum { DIODE, THYRISTOR, TRANSISTOR, CONTACT };

/* Rules of integration as numbers: what of the past enters the history current of a series branch (G v' voltage -
 * G u' charge + K i' kept + i' own) and of a capacitance (-G v' - i' before), and what of i' a series capacitor's
 * voltage carries on (before). */
struct weights {
  double voltage, charge, kept, own, before;
};
/* Values that slopes follow from, and how much these count. */
struct sloped {
  double weight;
  const double *values;
};

/* What the tables hold. Numbers of places are those in the arrays of values. */
struct point {
  double x, y;
};
struct stretch { /* f = hertz + slope (t - start), theta = turn + its integral */
  double start, hertz, slope, turn;
};
struct harmonic {
  double order, share, angle;
};
struct waveform { /* drives known[first ... end) */
  int first, end;
  double amplitude, omega, angle;
  const struct point *magnitude;
  int magnitudes;
  const struct point *turn;
  int turns;
  const struct stretch *piece;
  int pieces;
  const struct harmonic *harmonic;
  int harmonics;
};
struct known { /* its place; the angle of its phase */
  int at;
  double angle, cosine, sine;
};
struct told { /* a known node that a setting says */
  int at, setting;
};
struct entry { /* where an adjustable conductance enters a column */
  int row, number;
  double sign;
};
struct left { /* what a column takes from one before it */
  int column, entry;
};
struct coupling { /* a current into an unknown node by a known voltage */
  int row, known;
  double siemens;
};
struct driven { /* the same by an adjustable conductance */
  int row, known, number;
  double sign;
};
struct path { /* of waves, from a mode to a mode of the line */
  int from, to;
  double steps, through, back;
};
struct mode { /* where its waves stand; entries per end, a power of two; whether all paths take whole steps */
  int ring, length, whole;
};
struct pole {
  int p, q, current, position, number, closed, strengths;
  const struct point *strength;
  double closed_S, open_S, chop_A, late_open, late_close;
};
struct operable {
  const int *pole;
  int poles;
  const int *blocking;
  int blockings, always_opens;
  double opening_time, closing_time;
};
struct straight {
  double low, high, slope, offset;
};
struct segment { /* on straight[first ... end) */
  int p, q, current, state, number, inductive, first, end;
  double slack;
};
struct valve {
  int kind, p, q, number, voltage, current, conducts;
  double off_S, on_S, drop_V, diode_S, diode_drop_V;
};
struct term {
  int at;
  double coefficient;
};
struct law { /* a part with equations of its own: its ends, its slots, settings and inputs that it reads */
  const int *p, *q;
  int ends, first;
  const int *setting;
  const struct term *input;
  const int *input_first;
  int currents;    /* where those of its ends go; -1 */
  const double *g; /* ends times ends, S */
  int number;      /* of the first of its conductances that change; -1 */
};
struct span { /* that a rule spans, the step's begin; beyond: the third half step behind an event: nothing goes on */
  int trapezoidal, beyond;
  double length, until, grid;
};
struct input { /* of something that opens and closes, or of a setting at a place */
  int operable, at, smooth;
  double start, least, most;
};
