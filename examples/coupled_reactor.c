/* A three-phase series reactor on one core as an element of one's own: inductances between its phases,
 *   v = R i + L di/dt,   L = self on the diagonal, mutual beside it,
 * by the trapezoidal rule, and by backward Euler in half steps behind an event: G = (R + 2 L/h)^-1 for both.
 *
 *   [own_element.reactor]
 *   library = "libcoupled_reactor.so"
 *   between = ["quay", "berth"]
 *   parameters = ["self: 2 mH", "mutual: -0.4 mH", "resistance: 20 mohm"]
 */
#include "zavrek/element.h"

enum { self, mutual, resistance };

static const zavrek_element_parameter parameters[] = {
    {"self", "H", 1e-3, 1e-9, 1e3, 0}, {"mutual", "H", 0, -1e3, 1e3, 0}, {"resistance", "ohm", 0.01, 0, 1e6, 0}};

/* a on the diagonal and b beside it: the same of the inverse, and of a product with x. */
static void inverse(double a, double b, double* c, double* d) {
  const double determinant = (a - b) * (a + 2 * b);
  *c = (a + b) / determinant;
  *d = -b / determinant;
}
static void multiply(double a, double b, const double* x, double* y) {
  for (int k = 0; k < 3; ++k) y[k] = (a - b) * x[k] + b * (x[0] + x[1] + x[2]);
}
static void conductance(const double* p, double h, double* g) {
  double c, d;
  inverse(p[resistance] + 2 * p[self] / h, 2 * p[mutual] / h, &c, &d);
  for (int k = 0; k < 9; ++k) g[k] = k % 4 == 0 ? c : d;
}
/* (R + j s L)^-1, a complex number for each of the two eigenvalues of L. */
static void admittance(const double* p, double s, double omega, double* y) {
  (void)omega;
  double re[2], im[2];
  for (int k = 0; k < 2; ++k) {
    const double x = s * (k == 0 ? p[self] - p[mutual] : p[self] + 2 * p[mutual]);
    const double square = p[resistance] * p[resistance] + x * x;
    re[k] = p[resistance] / square;
    im[k] = -x / square;
  }
  for (int k = 0; k < 9; ++k) {
    const double other = 1.0 / 3, own = k % 4 == 0 ? 1 - other : -other;
    y[k] = own * re[0] + other * re[1];
    y[9 + k] = own * im[0] + other * im[1];
  }
}
static int begin(const zavrek_element_span* span, const double* p, const double* x, const double* v, const double* i,
                 double* history, double* g) {
  (void)x, (void)g;
  double c, d, kept[3], drive[3];
  inverse(p[resistance] + 2 * p[self] / span->h, 2 * p[mutual] / span->h, &c, &d);
  multiply(2 * p[self] / span->h, 2 * p[mutual] / span->h, i, kept);
  for (int k = 0; k < 3; ++k) drive[k] = kept[k] + (span->whole ? v[k] - p[resistance] * i[k] : 0);
  multiply(c, d, drive, history);
  return 0;
}

static const zavrek_element element = {.version = ZAVREK_ELEMENT_VERSION,
                                       .doc = "a series reactor of three phases on one core",
                                       .ends = 3,
                                       .parameters = 3,
                                       .parameter = parameters,
                                       .conductance = conductance,
                                       .admittance = admittance,
                                       .begin = begin};
const zavrek_element* zavrek_element_describe(void) { return &element; }
