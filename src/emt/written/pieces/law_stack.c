/* Submodules of an arm in series: v = R i + sum w_k u_k, C du_k/dt = w_k i, w_k in {0, 1}, for one of them the part of a step.
 * With d = h/(2 C) either rule gives u_k = u_k' + d w_k i. How many are in follows a setting; which ones come and go is
 * chosen once a step by voltage and direction of the current: one exchange beside what the number asks for. Slots:
 * current, how many are in, least and greatest voltage, voltages. Settings: share inserted, share bypassed. */
struct stack {
  double submodules, capacitance, ohms, averaged;
};
/* Its memory: how many are not bridged (the last ones are), before the choice of the step at hand too; when it chose,
 * what it was asked for, weights, weights before. */
enum { HEALTHY, HEALTHY_BEFORE, CHOSEN_AT, ASKED, WEIGHT = ASKED + 2 };

/* Of those that are in (or out), the one of the least (or greatest) voltage. */
static int best_submodule(const double *memory, const double *u, int in, int lowest)
{
  int found = -1;
  for (int k = 0; k < (int)memory[HEALTHY]; ++k) {
    if ((memory[WEIGHT + k] == 1) != in) continue;
    if (found < 0 || (lowest ? u[k] < u[found] : u[k] > u[found])) found = k;
  }
  return found < 0 ? 0 : found;
}
static void choose_submodules(const struct stack *o, double *memory, const double *asked, const double *slots)
{
  const int n = (int)o->submodules, charges = slots[0] >= 0;
  const double *u = slots + 4, inserted = asked[0] < 0 ? 0 : asked[0] > 1 ? 1 : asked[0];
  double *w = memory + WEIGHT;
  int healthy = n - (int)round(asked[1] * n), now = 0;
  if (healthy < 1) healthy = 1;
  memory[ASKED] = asked[0];
  memory[ASKED + 1] = asked[1];
  memory[HEALTHY] = healthy;
  for (int k = healthy; k < n; ++k) w[k] = 0;
  const double wanted = inserted * n < healthy ? inserted * n : healthy;
  const int full = (int)(o->averaged > 0 ? floor(wanted + 1e-9) : round(wanted));
  const double part = o->averaged > 0 && wanted > full ? wanted - full : 0;
  /* The one that was in for a part is out again before the others are counted. */
  for (int k = 0; k < healthy; ++k) {
    if (w[k] < 1) w[k] = 0;
    now += w[k] == 1;
  }
  for (; now < full; ++now) w[best_submodule(memory, u, 0, charges)] = 1;
  for (; now > full; --now) w[best_submodule(memory, u, 1, !charges)] = 0;
  if (full > 0 && full < healthy) {
    const int enters = best_submodule(memory, u, 0, charges), leaves = best_submodule(memory, u, 1, !charges);
    const double gain = charges ? u[leaves] - u[enters] : u[enters] - u[leaves];
    if (gain >= 0.02 * fabs(u[leaves])) {
      w[enters] = 1;
      w[leaves] = 0;
    }
  }
  if (part > 0 && full < healthy) w[best_submodule(memory, u, 0, charges)] = part;
}

static void stack_begin(const struct stack *o, const struct law *l, const struct span *s, const double *old, double *history,
                        double *memory, double *conductance)
{
  const int n = (int)o->submodules;
  const double *slots = old + l->first, asked[2] = {old[l->setting[0]], old[l->setting[1]]}, rate = STEP / 2 / o->capacitance;
  double *w = memory + WEIGHT, *was = w + n;
  if (s->grid != memory[CHOSEN_AT]) {
    memcpy(was, w, (size_t)n * sizeof *w);
    memory[HEALTHY_BEFORE] = memory[HEALTHY];
    choose_submodules(o, memory, asked, slots);
  } else if (asked[0] != memory[ASKED] || asked[1] != memory[ASKED + 1]) {
    memcpy(w, was, (size_t)n * sizeof *w);
    memory[HEALTHY] = memory[HEALTHY_BEFORE];
    choose_submodules(o, memory, asked, slots);
  }
  memory[CHOSEN_AT] = s->grid;
  const double moved = s->trapezoidal ? rate * slots[0] : 0;
  double squares = 0, known = 0;
  for (int k = 0; k < n; ++k) {
    squares += w[k] * w[k];
    known += w[k] * (slots[4 + k] + w[k] * moved);
  }
  conductance[0] = 1 / (o->ohms + rate * squares);
  history[0] = -conductance[0] * known;
}

static void stack_end(const struct stack *o, const struct law *l, const struct span *s, const double *old, double *now,
                      const double *history, double *memory)
{
  const int n = (int)o->submodules;
  const double *before = old + l->first, *w = memory + WEIGHT, rate = STEP / 2 / o->capacitance;
  double *slots = now + l->first, squares = 0;
  slots[1] = 0;
  for (int k = 0; k < n; ++k) {
    squares += w[k] * w[k];
    slots[1] += w[k];
  }
  slots[0] = (now[l->p[0]] - now[l->q[0]]) / (o->ohms + rate * squares) + history[0];
  const double moved = rate * (slots[0] + (s->trapezoidal ? before[0] : 0));
  for (int k = 0; k < n; ++k) slots[4 + k] = before[4 + k] + w[k] * moved;
  slots[2] = slots[3] = slots[4];
  for (int k = 1; k < (int)memory[HEALTHY]; ++k) {
    if (slots[4 + k] < slots[2]) slots[2] = slots[4 + k];
    if (slots[4 + k] > slots[3]) slots[3] = slots[4 + k];
  }
}
