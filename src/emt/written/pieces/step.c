/* A step. Values of one instant stand in one array: those of NOW at the newest grid point, of NEXT at the one being
 * solved; MIDDLE, END and THIRD lie half a step, a step and one and a half behind an event, EVENT at it; SLOPE
 * holds, when the present lies behind an event within its step, what slopes follow from. */
static double *values_at(model *m, int instant) { return m->value[m->which[instant]]; }

static void exchange(model *m, int a, int b)
{
  const unsigned char kept = m->which[a];
  m->which[a] = m->which[b];
  m->which[b] = kept;
}

static double grid_time(const model *m, int steps_on) { return (double)(m->steps + steps_on) * STEP; }

/* As a step by the trapezoidal rule, or half of one by backward Euler, has it. */
static const struct weights trapezoidal = {1, 2, 1, 0, 1}, half_euler = {0, 1, 0.5, 0.5, 0};

static void inject_apart(model *m, const double *stands, double first, const double *by_first, double second,
                         const double *by_second)
{
  struct sloped slopes[2];
  slopes[0].weight = first;
  slopes[0].values = by_first;
  slopes[1].weight = second;
  slopes[1].values = by_second;
  memset(m->rhs, 0, sizeof m->rhs);
  parts_apart(m, stands, slopes);
}

/* At an event gone back to, slopes change on a line from the step's begin to its end: states are less than on the
 * line through them. */
static void inject_at_event(model *m, const double *stands)
{
  const double *grid = values_at(m, stands == values_at(m, NOW) ? EVENT : NOW);
  inject_apart(m, stands, m->bent, m->bent_by_slope ? values_at(m, SLOPE) : grid, -m->bent, values_at(m, NEXT));
}

static void inject_histories(model *m, const struct weights *rule, const double *old)
{
  if (m->slope_stands && old == values_at(m, NOW) && rule == &trapezoidal) {
    const double *slope = values_at(m, SLOPE);
    inject_apart(m, old, 1, slope, 0, slope);
  } else if (m->bent != 0 && rule == &half_euler) {
    inject_at_event(m, old);
  } else {
    memset(m->rhs, 0, sizeof m->rhs);
    parts_history(m, old, rule);
  }
}

/* From the values in `old` to those in `now`, whose sources stand; `ahead`: of the instant, in steps from the newest
 * grid point on. The histories of the solution after it, by the same rule, are made at once: they hold unless a
 * discontinuity comes between. */
static void solve(model *m, const struct weights *rule, double ahead, const double *old, double *now)
{
  if (m->history_holds != (rule == &trapezoidal ? 1 : 2)) inject_histories(m, rule, old);
#if LINES
  lines_history(m, ahead);
#else
  (void)ahead;
#endif
#if SEGMENTS
  segments_history(m, rule, old, m->slope_stands && old == values_at(m, NOW) ? values_at(m, SLOPE) : old);
#endif
#if VALVES
  drive_valves(m);
#endif
#if LAWS
  const struct span span = {rule == &trapezoidal, now == values_at(m, THIRD), rule == &trapezoidal ? STEP : STEP / 2,
                            grid_time(m, 0) + ahead * STEP, grid_time(m, 0)};
#if LAWS_THAT_ACT
  laws_begin(m, &span, old);
#endif
#endif
#if ADJUSTABLES
  if (m->any_stale) refactor(m);
#endif
  solve_nodes(m, now);
  parts_pass(m, now, rule);
  m->history_holds = rule == &trapezoidal ? 1 : 2;
#if LINES
  lines_currents(m, now);
#endif
#if SEGMENTS
  segments_currents(m, now);
#endif
#if VALVES
  update_valves(m, now);
#endif
#if POLES
  update_poles(m, now);
#endif
#if LAWS
  laws_end(m, &span, old, now);
#endif
}

static void blend(const double *from, const double *to, double share, double *into)
{
  for (int k = 0; k < VALUES; ++k) into[k] = from[k] + share * (to[k] - from[k]);
}

/* What stands so many steps behind an event, at most one, from the three half steps behind it: what changes on a line
 * of slopes is met, what decays at once is gone. Where switches make states jump, what decays fast but not at once
 * would ring on: there it stands on the line from the first to the second. */
static void stand_behind(const model *m, double steps, double *into)
{
  const double second = m->damped ? 2 * steps - 1 : 2 * (3 * steps - 1 - steps * steps);
  const double third = m->damped ? 0 : 2 * (steps * steps - 2 * steps + 0.5);
  const double *x1 = m->value[m->which[MIDDLE]], *x2 = m->value[m->which[END]], *x3 = m->value[m->which[THIRD]];
  for (int k = FIRST_UNKNOWN; k < SETTINGS; ++k) into[k] = x1[k] + second * (x2[k] - x1[k]) + third * (x3[k] - x2[k]);
}

/* The half step just behind an event: made again as long as valves commutate, whose pieces must fit it. */
static void first_half_step(model *m, double ahead)
{
  double *now = values_at(m, NOW), *middle = values_at(m, MIDDLE);
#if VALVES
  int fits = 0;
  begin_instant(m);
  for (int round = 0; !fits; ++round) {
    if (round > 0) m->history_holds = 0;
    solve(m, &half_euler, ahead, now, middle);
    fits = !m->valves_left || !fit_valves_anew(m, middle);
    if (!fits && round == COMMUTATIONS_PER_EVENT) break;
  }
  end_instant(m);
  if (!fits) ++m->steps_at_limit;
#else
  solve(m, &half_euler, ahead, now, middle);
#endif
}

/* Goes back to the event, changes what is due over (valves have) and takes three half steps of backward Euler; the
 * grid point `until` is read off them. */
static void settle(model *m, double from, double until, double event)
{
  const double share = until > from ? (event - from) / (until - from) : 0;
  int jumps = 1; /* a step that begins anew */
  ++m->discontinuities;
#if SEGMENTS
  int moved = 0;
  for (int k = 0; k < SEGMENTS; ++k)
    if (m->segment_due[k]) {
      move_segment(m, k, values_at(m, NEXT), event);
      moved = 1;
    }
#endif
  if (share > 0) {
    if (m->behind_event) {
      const double steps = (event - from) / STEP;
      double *at = values_at(m, EVENT);
      blend(values_at(m, MIDDLE), values_at(m, END), 2 * steps - 1, at);
      stand_behind(m, steps, at);
      m->bent = 0;
      m->history_holds = 0;
    } else {
      blend(values_at(m, NOW), values_at(m, NEXT), share, values_at(m, EVENT));
      m->bent = share * (1 - share);
      m->bent_by_slope = m->slope_stands;
#if SEGMENTS
      bend_segments(m->bent, values_at(m, m->slope_stands ? SLOPE : NOW), -m->bent, values_at(m, NEXT),
                    values_at(m, EVENT));
#endif
      inject_at_event(m, values_at(m, EVENT));
      m->history_holds = 2;
    }
    exchange(m, NOW, EVENT);
    m->slope_stands = 0;
  } else {
    m->bent = 0;
    m->history_holds = 0;
  }
  if (m->corner_due) {
    pass_corners(m, event + COINCIDENCE);
    impose_sources(m, until, values_at(m, NEXT));
  }
  impose_sources(m, event + STEP / 2, values_at(m, MIDDLE));
#if VALVES
  if (m->valves_due) jumps = m->corner_due;
#endif
#if SEGMENTS
  if (moved) jumps = m->corner_due;
#endif
#if POLES
  for (int k = 0; k < POLES; ++k)
    if (m->pole_due[k]) {
      change_pole_over(m, k, event);
      jumps = 1;
    }
  set_alarm(m);
#endif
  const double behind_grid = (event - grid_time(m, 0)) / STEP;
  first_half_step(m, behind_grid + 0.5);
  m->bent = 0;
  impose_sources(m, event + STEP, values_at(m, END));
  solve(m, &half_euler, behind_grid + 1, values_at(m, MIDDLE), values_at(m, END));
  impose_sources(m, event + 1.5 * STEP, values_at(m, THIRD));
  solve(m, &half_euler, behind_grid + 1.5, values_at(m, END), values_at(m, THIRD));
  m->history_holds = 0;
#if VALVES
  watch_valves(m, values_at(m, MIDDLE));
  m->watched_from_half_step = 1;
#endif
#if LINES
  {
    const double *middle = values_at(m, MIDDLE), *end = values_at(m, END);
    double *behind = values_at(m, EVENT);
    for (int k = 0; k < VALUES; ++k) behind[k] = 2 * middle[k] - end[k];
    lines_jump(m, behind_grid, values_at(m, NOW), behind);
  }
#endif
  m->damped = (unsigned char)jumps;
  const double steps = (until - event) / STEP;
  double *next = values_at(m, NEXT), *slope = values_at(m, SLOPE);
  stand_behind(m, steps, next);
  /* A jump of a capacitance's voltage is an impulse of current in the first half step, of which nothing goes on. */
  blend(values_at(m, END), values_at(m, THIRD), 2 * (steps - 1), slope);
  memcpy(slope, next, FIRST_UNKNOWN * sizeof slope[0]);
  parts_slopes(slope, next);
#if LAWS && LAWS_THAT_LEAP
  laws_leap(values_at(m, END), next);
#endif
  m->behind_event = 1;
}

static void forget_due(model *m)
{
  m->corner_due = 0;
#if POLES
  memset(m->pole_due, 0, sizeof m->pole_due);
#endif
#if SEGMENTS
  memset(m->segment_due, 0, sizeof m->segment_due);
#endif
#if VALVES
  m->valves_due = 0;
#endif
}

/* Whether an event is the earliest so far; forgets those that it comes before. */
static int concerns(model *m, double time, double *earliest)
{
  if (time == NEVER || time > *earliest + COINCIDENCE) return 0;
  if (time < *earliest - COINCIDENCE) {
    forget_due(m);
  }
  if (time < *earliest) *earliest = time;
  return 1;
}

/* The earliest event within (from, until], and what is due at it. */
static double find_due(model *m, double from, double until)
{
  double earliest = NEVER;
  const double corner_at = coming_corner(m);
  forget_due(m);
  /* A corner on the grid belongs to the step that begins there. */
  if (corner_at < until - COINCIDENCE)
    m->corner_due = (unsigned char)concerns(m, corner_at > from ? corner_at : from, &earliest);
#if POLES
  for (int k = 0; m->alarm < until && k < POLES; ++k)
    if (pole_waits(m, k)) {
      const double time = pole_event(m, k, from, until, values_at(m, NOW), values_at(m, NEXT));
      if (concerns(m, time, &earliest)) m->pole_due[k] = 1;
    }
#endif
#if SEGMENTS
  for (int k = 0; k < SEGMENTS; ++k) {
    const double share = segment_leaves(m, k, values_at(m, NOW), values_at(m, NEXT));
    const double time = from + share * (until - from);
    if (share <= 1 && time > m->moved_at[k] + 1e-9 * STEP && concerns(m, time, &earliest)) m->segment_due[k] = 1;
  }
#endif
#if VALVES
  const double since = m->watched_from_half_step ? from + STEP / 2 : from;
  m->valves_due = (unsigned char)concerns(m, find_valve_events(m, from, since, until, values_at(m, NEXT)), &earliest);
#endif
  return earliest;
}

/* Changes over the valves that are due; whether anything changes, as nothing does where a gate edge finds a diode
 * conducting. */
static int change_due_over(model *m, double event)
{
  int any = m->corner_due;
#if VALVES
  for (int k = 0; m->valves_due && k < VALVES; ++k)
    if (m->piece[k].time <= event + COINCIDENCE) any |= change_valve_over(m, k, event, values_at(m, NEXT));
#else
  (void)event;
#endif
#if POLES
  for (int k = 0; k < POLES; ++k) any |= m->pole_due[k];
#endif
#if SEGMENTS
  for (int k = 0; k < SEGMENTS; ++k) any |= m->segment_due[k];
#endif
  return any;
}

static void meet_discontinuities(model *m, double until)
{
  double from = grid_time(m, 0);
  if (m->restart) {
    m->restart = 0;
    forget_due(m);
    settle(m, from, until, from);
  }
#if VALVES
  if (!m->watched_from_half_step) watch_valves(m, values_at(m, NOW));
#endif
  for (int count = 0;;) {
    const double event = find_due(m, from, until);
    if (event == NEVER) break;
    if (count == EVENTS_PER_STEP) {
      ++m->steps_at_limit;
      break;
    }
    if (!change_due_over(m, event)) continue; /* edges that change nothing are taken, and not many can wait */
    settle(m, from, until, event);
    from = event;
    ++count;
  }
#if VALVES
  m->watched_from_half_step = 0;
#endif
}

static int is_finite(const double *values)
{
  double sum = 0;
  for (int k = FIRST_UNKNOWN; k < FIRST_UNKNOWN + UNKNOWNS; ++k) sum += values[k];
  return sum - sum == 0;
}

static int take_step(model *m)
{
  const double until = grid_time(m, 1);
  double *next = values_at(m, NEXT);
  int calm = coming_corner(m) >= until - COINCIDENCE;
  impose_sources(m, until, next);
  if (!m->restart) {
    if (EULER_THROUGHOUT) {
      impose_sources(m, until - STEP / 2, values_at(m, MIDDLE));
      solve(m, &half_euler, 0.5, values_at(m, NOW), values_at(m, MIDDLE));
      solve(m, &half_euler, 1, values_at(m, MIDDLE), next);
    } else {
      solve(m, &trapezoidal, 1, values_at(m, NOW), next);
    }
  }
  calm = calm && !m->restart; /* which a part may have asked for just now */
#if POLES
  calm = calm && m->alarm >= until;
#endif
#if VALVES
  calm = calm && valves_are_quiet(m, until);
#endif
#if SEGMENTS
  calm = 0;
#endif
  if (!calm) meet_discontinuities(m, until);
  exchange(m, NOW, NEXT);
  m->slope_stands = m->behind_event;
  m->behind_event = 0;
  ++m->steps;
#if LINES
  ++m->newest;
  lines_push(m, values_at(m, NOW));
#endif
  return is_finite(values_at(m, NOW)) ? 0 : 1;
}
