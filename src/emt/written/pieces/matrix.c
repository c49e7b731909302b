/* The nodal matrix, factored as L D L^T. Column j of L has its numbers in below[column[j] ... column[j + 1]), at
 * the rows row[...], ascending. Conductances that change (of poles, of valves) enter given places; only the
 * columns on the paths from there to the last are made anew. What columns that never change take from the others
 * is taken from `given` already. */
#if ADJUSTABLES
static void adjust(model *m, int number, double siemens)
{
  if (m->adjustable[number] == siemens) return;
  m->adjustable[number] = siemens;
  for (int e = reach[number]; e < reach[number + 1]; ++e) m->stale[reached[e]] = 1;
  m->any_stale = 1;
}

static void make_column(model *m, int j)
{
  double work[UNKNOWNS];
  work[j] = given_diagonal[j];
  for (int e = column[j]; e < column[j + 1]; ++e) work[row[e]] = given_below[e];
  for (int e = entering[j]; e < entering[j + 1]; ++e)
    work[entry[e].row] += entry[e].sign * m->adjustable[entry[e].number];
  for (int l = left[j]; l < left[j + 1]; ++l) {
    const int k = left_of[l].column, first = left_of[l].entry;
    const double taken = m->below[first] * m->diagonal[k];
    for (int e = first; e < column[k + 1]; ++e) work[row[e]] -= m->below[e] * taken;
  }
  m->diagonal[j] = work[j];
  m->one_over[j] = 1 / work[j];
  for (int e = column[j]; e < column[j + 1]; ++e) m->below[e] = work[row[e]] * m->one_over[j];
}

static void refactor(model *m)
{
  for (int j = 0; j < UNKNOWNS; ++j)
    if (m->stale[j]) {
      m->stale[j] = 0;
      make_column(m, j);
    }
  m->any_stale = 0;
}
#endif

/* Node voltages from the currents into the nodes, which are emptied. */
static void solve_nodes(model *m, double *now)
{
#if COUPLINGS
  for (int k = 0; k < COUPLINGS; ++k) m->rhs[coupling[k].row] += coupling[k].siemens * now[coupling[k].known];
#endif
#if DRIVEN_COUPLINGS
  for (int k = 0; k < DRIVEN_COUPLINGS; ++k)
    m->rhs[driven[k].row] += driven[k].sign * m->adjustable[driven[k].number] * now[driven[k].known];
#endif
#if STRAIGHT
  solve_straight(m, now);
#else
  double *b = m->rhs + FIRST_UNKNOWN, *x = now + FIRST_UNKNOWN;
  for (int j = 0; j < UNKNOWNS; ++j) {
    const double taken = b[j];
    for (int e = column[j]; e < column[j + 1]; ++e) b[row[e]] -= m->below[e] * taken;
  }
  for (int j = UNKNOWNS - 1; j >= 0; --j) {
    double v = b[j] * m->one_over[j];
    for (int e = column[j]; e < column[j + 1]; ++e) v -= m->below[e] * x[row[e]];
    x[j] = v;
  }
#endif
  memset(m->rhs, 0, sizeof m->rhs);
}
