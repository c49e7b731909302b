void NAME_start(NAME_model *m)
{
  memset(m, 0, sizeof *m);
  for (int k = 0; k < 7; ++k) {
    m->which[k] = (unsigned char)k;
    for (int s = SETTINGS; s < VALUES; ++s) m->value[k][s] = start[s];
  }
  memcpy(m->value[NOW], start, sizeof start);
  memcpy(m->below, start_below, sizeof start_below);
  memcpy(m->diagonal, start_diagonal, sizeof start_diagonal);
  for (int j = 0; j < UNKNOWNS; ++j) m->one_over[j] = 1 / start_diagonal[j];
#if ADJUSTABLES
  memcpy(m->adjustable, start_adjustable, sizeof start_adjustable);
#endif
#if LINES
  memcpy(m->ring, start_ring, sizeof start_ring);
  m->newest = START_NEWEST;
#endif
#if SEGMENTS
  place_segments(m, start);
#endif
#if POLES
  for (int k = 0; k < POLES; ++k) {
    m->closed[k] = pole[k].closed;
    m->close_at[k] = m->part_at[k] = NEVER;
    m->ceased_at[k] = m->closed_at[k] = -NEVER;
  }
  set_alarm(m);
#endif
#if VALVES
  for (int k = 0; k < VALVES; ++k) {
    m->recovered[k] = 1;
    load_piece(m, k);
  }
#endif
#if LAWS && LAWS_THAT_REMEMBER
  laws_start(m);
#endif
  m->restart = START_ANEW;
#if INPUTS
  for (int k = 0; k < INPUTS; ++k) m->input[k] = input[k].start;
#endif
#if CONTROL
  control_start(m);
#endif
}

int NAME_step(NAME_model *m)
{
#if CONTROL
  if (!m->ended) control_due(m);
#endif
  if (!m->ended) m->ended = (unsigned char)take_step(m);
  return m->ended;
}

double NAME_time(const NAME_model *m) { return grid_time(m, 0); }

int NAME_set(NAME_model *m, int which, double value)
{
#if CONTROL && CONTROL_INPUTS
  if (which >= INPUTS && which < INPUTS + CONTROL_INPUTS && value - value == 0) {
    control_set(m, which - INPUTS, value);
    return 0;
  }
#endif
#if INPUTS
  if (which < 0 || which >= INPUTS || value - value != 0) return 1;
  const struct input *what = &input[which];
  const double was = m->input[which];
  if (value < what->least) value = what->least;
  if (value > what->most) value = what->most;
#if POLES
  if (what->operable >= 0) {
    m->input[which] = value > 0.5;
    return m->input[which] != was && !operate(m, what->operable, value > 0.5, grid_time(m, 0)) ? 2 : 0;
  }
#endif
  m->input[which] = value;
  if (value != was) turn(m, what, value);
  return 0;
#else
  (void)m;
  (void)which;
  (void)value;
  return 1;
#endif
}

int NAME_fire(NAME_model *m, int which, int on, double at)
{
#if GATES
  if (which < 0 || which >= GATES || at - at != 0) return 1;
  int taken = 1;
  const double from = at > grid_time(m, 0) ? at : grid_time(m, 0);
  for (int k = gate_first[which]; k < gate_first[which + 1]; ++k) taken &= push_edge(m, gate_valve[k], on, from);
  return taken ? 0 : 2;
#else
  (void)m;
  (void)which;
  (void)on;
  (void)at;
  return 1;
#endif
}

double NAME_get(const NAME_model *m, int which)
{
  if (which < 0 || which >= OUTPUTS) return 0;
#if CONTROL
  if (of_control[which] >= 0) return control_get(m, of_control[which]);
#endif
  return sum_of(m, term, output_first[which], output_first[which + 1]);
}
