static void control_start(model *m)
{
#if CONTROL_NUMBERS
  memcpy(m->control_number, start_number, sizeof start_number);
#endif
#if CONTROL_STATES
  memcpy(m->control_state, start_state, sizeof start_state);
#endif
  memcpy(m->control_value, start_value, sizeof start_value);
#if CONTROL_KNOBS
  for (int k = 0; k < CONTROL_KNOBS; ++k) m->knob_sent[k] = NEVER;
#endif
}

/* All turns that are due at the start of a step. */
static void control_due(model *m)
{
  while ((double)m->control_tick * CONTROL_PERIOD <= NAME_time(m) + 1e-6 * STEP) {
    double *v = m->control_value;
#if CONTROL_READS
    for (int k = 0; k < CONTROL_READS; ++k) v[FIRST_READ + k] = read_signal(m, k);
#endif
    control_run(m, (double)m->control_tick * CONTROL_PERIOD, m->control_tick);
    ++m->control_tick;
#if CONTROL_KNOBS
    for (int k = 0; k < CONTROL_KNOBS; ++k) {
      const double wanted = v[knob_value[k]];
      if (wanted == m->knob_sent[k] || wanted - wanted != 0) continue;
      turn(m, &input[control_knob[k]], wanted);
      m->knob_sent[k] = wanted;
    }
#endif
#if CONTROL_OPERABLES
    for (int k = 0; k < CONTROL_OPERABLES; ++k) {
      const unsigned char closes = v[operable_value[k]] > 0.5;
      if (closes == m->closes_sent[k]) continue;
      operate(m, control_operable[k], closes, NAME_time(m));
      m->closes_sent[k] = closes;
    }
#endif
    (void)v;
  }
}

#if CONTROL_INPUTS
static void control_set(model *m, int which, double value)
{
  const struct limits *what = &control_limits[which];
  m->control_number[what->at] = clamp(value, what->least, what->most);
}
#endif

static double control_get(const model *m, int which) { return m->control_value[which]; }
