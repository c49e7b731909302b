/* Switch poles: conductances with two values. A closed pole opens where its current passes zero (or falls to the
 * level at which it chops) behind the parting of its contacts, an open one closes at its instant, or where the
 * voltage across the gap exceeds what that withstands by then. */
static int pole_waits(const model *m, int k)
{
  return m->close_at[k] < NEVER || m->part_at[k] < NEVER || (!m->closed[k] && pole[k].strengths > 0);
}

static double pole_siemens(const model *m, int k) { return m->closed[k] ? pole[k].closed_S : pole[k].open_S; }

static void set_alarm(model *m)
{
  m->alarm = NEVER;
  for (int k = 0; k < POLES; ++k) {
    if (!pole_waits(m, k)) continue;
    const double asleep_until = m->closed[k] ? m->part_at[k] : pole[k].strengths == 0 ? m->close_at[k] : -NEVER;
    if (asleep_until < m->alarm) m->alarm = asleep_until;
  }
}

/* A command to be where it already is, with nothing pending that would move it, is void. */
static void command_pole(model *m, int k, int close, double at)
{
  if (close)
    m->close_at[k] = at + pole[k].late_close;
  else
    m->part_at[k] = at + pole[k].late_open;
  if (close && m->closed[k] && m->part_at[k] == NEVER) m->close_at[k] = NEVER;
  if (!close && !m->closed[k] && m->close_at[k] == NEVER) m->part_at[k] = NEVER;
}

static void update_poles(const model *m, double *now)
{
  ROW_BY_ROW
  for (int k = 0; k < POLES; ++k) {
    now[pole[k].current] = m->adjustable[pole[k].number] * (now[pole[k].p] - now[pole[k].q]);
    now[pole[k].position] = m->closed[k];
  }
}

static double withstands(const model *m, int k, double time)
{
  const struct point *s = pole[k].strength;
  const int count = pole[k].strengths;
  const double since = time - m->ceased_at[k];
  int n = 0;
  while (n + 1 < count && s[n + 1].x <= since) ++n;
  if (since <= s[n].x || n + 1 == count) return s[n].y;
  return s[n].y + (s[n + 1].y - s[n].y) * (since - s[n].x) / (s[n + 1].x - s[n].x);
}

static double restrike_time(const model *m, int k, double from, double until, const double *before,
                            const double *after)
{
  const double excess_after = fabs(after[pole[k].p] - after[pole[k].q]) - withstands(m, k, until);
  const double excess_before = fabs(before[pole[k].p] - before[pole[k].q]) - withstands(m, k, from);
  if (excess_after <= 0) return NEVER;
  if (excess_before >= 0) return from;
  return from + (until - from) * excess_before / (excess_before - excess_after);
}

/* The instant within (from, until] at which pole k changes over, NEVER when it does not. */
static double pole_event(const model *m, int k, double from, double until, const double *before,
                         const double *after)
{
  if (!m->closed[k]) {
    double closes = m->close_at[k] < until ? m->close_at[k] > from ? m->close_at[k] : from : NEVER;
    if (pole[k].strengths > 0) {
      const double strikes = restrike_time(m, k, from, until, before, after);
      if (strikes < closes) closes = strikes;
    }
    return closes;
  }
  if (m->part_at[k] >= until) return NEVER;
  const double was = before[pole[k].current], is = after[pole[k].current];
  const double earliest = m->part_at[k] > from ? m->part_at[k] : from;
  if (fabs(was) < 1e-6 && fabs(is) < 1e-6) return earliest;
  if (from <= m->closed_at[k]) return NEVER; /* `before` does not know its current yet */
  const double at_parting = was + (is - was) * (earliest - from) / (until - from);
  if (fabs(at_parting) < pole[k].chop_A) return earliest;
  const double level = at_parting < 0 ? -pole[k].chop_A : pole[k].chop_A;
  if ((at_parting - level) * (is - level) > 0) return NEVER;
  const double zero = from + (until - from) * (was - level) / (was - is);
  if (!(zero >= m->part_at[k] && zero < until)) return NEVER;
  return zero > from ? zero : from;
}

static void change_pole_over(model *m, int k, double event)
{
  const int restrikes = !m->closed[k] && m->close_at[k] > event + COINCIDENCE;
  m->closed[k] = !m->closed[k];
  if (m->closed[k])
    m->closed_at[k] = event;
  else
    m->ceased_at[k] = event;
  if (restrikes)
    m->part_at[k] = event; /* the contacts stay apart: the arc goes out at a coming current zero */
  else if (m->closed[k])
    m->close_at[k] = NEVER;
  else
    m->part_at[k] = NEVER;
  adjust(m, pole[k].number, pole_siemens(m, k));
}

/* Opens or closes what has a name, unless something else that must be open is not. */
static int operate(model *m, int which, int close, double at)
{
  const struct operable *o = &operable[which];
  for (int k = 0; k < o->blockings; ++k) {
    const struct operable *other = &operable[o->blocking[k]];
    int conducts = 0;
    for (int n = 0; n < other->poles; ++n) conducts |= m->closed[other->pole[n]];
    if (conducts && (close || !o->always_opens)) return 0;
  }
  for (int n = 0; n < o->poles; ++n)
    command_pole(m, o->pole[n], close, at + (close ? o->closing_time : o->opening_time));
  set_alarm(m);
  return 1;
}
