/* Semiconductor valves: characteristics of straight pieces, the choice of which depends on a gate.
 *   off       i = g_off v
 *   forward   i = g (v - e), from p to q
 *   reverse   i = g_r (v + e_r), against it (a diode beside a transistor)
 * In each piece the valve stays as long as its voltage lies within two bounds. Every change of piece is a
 * discontinuity, found inside the step: gate edges by their time stamp, the end of conduction by the zero of the
 * current, its beginning by the zero of v - e. Behind each, the pieces must fit the solution: a valve that does
 * not is changed over at the same instant and the solution is made again. */

static double high_of(double a, double b) { return a > b ? a : b; }
static double low_of(double a, double b) { return a < b ? a : b; }

/* A diode has no gate; a thyristor that just carried current turns on again without. */
static int may_conduct_forward(const model *m, int k)
{
  return valve[k].kind == DIODE || m->gate[k] || !m->recovered[k];
}

/* The numbers of the piece that the valve is on: i = siemens v - source as long as low <= v <= high. */
static void load_piece(model *m, int k)
{
  const struct valve *v = &valve[k];
  struct NAME_piece *f = &m->piece[k];
  f->source = 0;
  f->low = -NEVER;
  f->high = NEVER;
  f->ohm = 0;
  switch (f->on) {
  case OFF:
    f->siemens = v->off_S;
    if (may_conduct_forward(m, k)) f->high = v->drop_V;
    if (v->kind == TRANSISTOR) f->low = -v->diode_drop_V;
    break;
  case FORWARD:
    f->siemens = v->on_S;
    f->source = v->on_S * v->drop_V;
    f->low = v->drop_V;
    f->ohm = 1 / v->on_S;
    break;
  default:
    f->siemens = v->diode_S;
    f->source = -v->diode_S * v->diode_drop_V;
    f->high = -v->diode_drop_V;
    f->ohm = 1 / v->diode_S;
    break;
  }
  f->slack = f->on == OFF ? 1e-7 : 1e-9 * f->ohm;
  if (v->kind == CONTACT) {
    f->low = -NEVER;
    f->high = NEVER;
  }
  adjust(m, v->number, f->siemens);
}

/* To the piece that the solution asks for. */
static void commutate(model *m, int k, double volts)
{
  m->piece[k].on = m->piece[k].on != OFF ? OFF : volts > 0 ? FORWARD : REVERSE;
  load_piece(m, k);
}

/* To the piece that the gate asks for, where it does. */
static void obey_gate(model *m, int k)
{
  if (valve[k].kind == CONTACT)
    m->piece[k].on = m->gate[k] ? FORWARD : OFF;
  else if (valve[k].kind == TRANSISTOR && !m->gate[k] && m->piece[k].on == FORWARD)
    m->piece[k].on = OFF;
  load_piece(m, k);
}

static double next_edge(const model *m, int k)
{
  return m->edges_waiting[k] > 0 ? m->edge_at[k][m->edge_first[k]] : NEVER;
}

#if GATES
/* An edge of a gate, behind those that wait: a pulse shorter than the dead time before it has no length. Returns
 * 0 when too many wait. */
static int push_edge(model *m, int k, int on, double at)
{
  if (m->edges_waiting[k] > 0) {
    const double last = m->edge_at[k][(m->edge_first[k] + m->edges_waiting[k] - 1) % EDGES];
    if (at < last) at = last;
  }
  if (m->edges_waiting[k] == EDGES) return 0;
  const int place = (m->edge_first[k] + m->edges_waiting[k]++) % EDGES;
  m->edge_at[k][place] = at;
  m->edge_on[k][place] = (unsigned char)(on != 0);
  return 1;
}

#endif

/* Lets the gate follow its edges until an instant, and the valve its gate; whether there were any. */
static int take_edges(model *m, int k, double until)
{
  int any = 0;
  while (m->edges_waiting[k] > 0 && m->edge_at[k][m->edge_first[k]] <= until) {
    m->gate[k] = m->edge_on[k][m->edge_first[k]];
    m->edge_first[k] = (m->edge_first[k] + 1) % EDGES;
    --m->edges_waiting[k];
    any = 1;
  }
  if (any) obey_gate(m, k);
  return any;
}

static double margin(const struct NAME_piece *f, double volts) { return low_of(volts - f->low, f->high - volts); }

/* How far beyond its bounds counts as within: what rounding makes of a margin, too. */
static double within(const model *m, const struct NAME_piece *f)
{
  return f->slack + 2e-12 * high_of(m->nodes_high, m->volts_high) + 1e-10 * m->amperes_high * f->ohm;
}

static void drive_valves(model *m)
{
  for (int k = 0; k < VALVES; ++k) {
    m->rhs[valve[k].p] += m->piece[k].source;
    m->rhs[valve[k].q] -= m->piece[k].source;
  }
}

static void update_valves(model *m, double *now)
{
  double nodes = 0, volts = 0, amperes = 0;
  int beyond = 0;
  for (int k = 0; k < VALVES; ++k) {
    const struct NAME_piece *f = &m->piece[k];
    const double p = now[valve[k].p], q = now[valve[k].q], v = p - q, i = f->siemens * v - f->source;
    now[valve[k].voltage] = v;
    now[valve[k].current] = i;
    now[valve[k].conducts] = f->on != OFF;
    nodes = high_of(nodes, fabs(p) + fabs(q));
    volts = high_of(volts, fabs(v));
    amperes = high_of(amperes, fabs(i));
    beyond |= -margin(f, v) > f->slack;
  }
  m->nodes_high = nodes;
  m->volts_high = volts;
  m->amperes_high = amperes;
  m->valves_left = 0;
  for (int k = 0; beyond && k < VALVES; ++k)
    m->valves_left |= margin(&m->piece[k], now[valve[k].voltage]) < -within(m, &m->piece[k]);
}

/* What a solution gave that all valves fit: from its instant on they are watched for leaving their pieces. */
static void watch_valves(model *m, const double *fitted)
{
  for (int k = 0; k < VALVES; ++k) m->piece[k].fitted = fitted[valve[k].voltage];
}

/* Whether nothing is due by `until`, when the solution at its end is the one seen last. */
static int valves_are_quiet(const model *m, double until)
{
  if (m->valves_left) return 0;
  for (int k = 0; k < VALVES; ++k)
    if (next_edge(m, k) < until) return 0;
  return 1;
}

/* For each valve the instant within (from, until] at which it changes over, by itself behind `watched`, the instant
 * of `watch_valves`. The earliest of them. */
static double find_valve_events(model *m, double from, double watched, double until, const double *after)
{
  double earliest = NEVER;
  for (int k = 0; k < VALVES; ++k) {
    struct NAME_piece *f = &m->piece[k];
    const double edge = next_edge(m, k);
    f->time = edge < until ? high_of(edge, from) : NEVER;
    if (watched < until) {
      const double margin_after = margin(f, after[valve[k].voltage]);
      if (margin_after < -within(m, f)) {
        const double margin_before = high_of(0, margin(f, f->fitted));
        f->time = low_of(f->time, watched + (until - watched) * margin_before / (margin_before - margin_after));
      }
    }
    earliest = low_of(earliest, f->time);
  }
  return earliest;
}

/* Carries out what is due; whether the valve is on another piece, or beyond a bound of its piece. */
static int change_valve_over(model *m, int k, double event, const double *after)
{
  const int before = m->piece[k].on;
  const double volts = after[valve[k].voltage];
  if (!take_edges(m, k, event + COINCIDENCE)) commutate(m, k, volts);
  const struct NAME_piece *f = &m->piece[k];
  return f->on != before || low_of(margin(f, f->fitted), margin(f, volts)) < -within(m, f);
}

/* What happens until `end_instant` happens at one instant. A thyristor that carries current when it begins is a
 * diode for that long. */
static void begin_instant(model *m)
{
  for (int k = 0; k < VALVES; ++k) {
    m->piece[k].changes = 0;
    if (valve[k].kind == THYRISTOR && m->piece[k].on == FORWARD) m->recovered[k] = 0;
  }
}

static void end_instant(model *m)
{
  for (int k = 0; k < VALVES; ++k) {
    if (m->recovered[k]) continue;
    m->recovered[k] = 1;
    if (m->piece[k].on == OFF) load_piece(m, k);
  }
}

/* Changes over the valves that do not fit; whether any did. Where the current of an inductance finds no way it
 * drives an off valve to millions of volts: only valves that are out by a hundredth of the worst change in one
 * round, none more than four times at one instant. */
static int fit_valves_anew(model *m, const double *values)
{
  double worst = 0;
  for (int k = 0; k < VALVES; ++k) {
    struct NAME_piece *f = &m->piece[k];
    const double beyond = -margin(f, values[valve[k].voltage]);
    f->misfit = beyond > within(m, f) && f->changes < 4 ? beyond : 0;
    worst = high_of(worst, f->misfit);
  }
  for (int k = 0; k < VALVES && worst > 0; ++k) {
    if (m->piece[k].misfit <= 0.01 * worst) continue;
    ++m->piece[k].changes;
    commutate(m, k, values[valve[k].voltage]);
  }
  return worst > 0;
}
