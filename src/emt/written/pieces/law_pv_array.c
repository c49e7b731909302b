/* Of one module, with i out of it and u the voltage of its junctions: i = Iph - I0 (exp(u/a) - 1) - u/Rp, v = u - Rs i,
 * not below the drop of its bypass diode; modules in sun and in shade share the current of their string. The network
 * sees the tangent at the voltage before the step. Slots: current into it, power. Settings: irradiance, temperature,
 * share of modules in shade, what reaches those. */
struct pv_array {
  double modules, strings, short_circuit, open_circuit, per_K, volts_per_K, a, series, parallel;
};
/* Its memory: conductance and current as they stand, the settings seen, Iph, I0 and a that follow from them. */
enum { SIEMENS, GUESS, SEEN, PHOTO = SEEN + 4, SATURATION, SLOPE_V };
struct module_point {
  double volts, slope;
};

static void light(const struct pv_array *o, double *memory)
{
  const double kelvin = memory[SEEN + 1], warmer = kelvin - 298.15, a = o->a * kelvin / 298.15;
  const double short_circuit = o->short_circuit * (1 + o->per_K * warmer);
  memory[PHOTO] = short_circuit * memory[SEEN] / 1000;
  memory[SATURATION] = short_circuit / expm1(o->open_circuit * (1 + o->volts_per_K * warmer) / a);
  memory[SLOPE_V] = a;
}

/* Voltage of the junctions at a current, by Newton from above, where the curve is concave. */
static double junction(const struct pv_array *o, const double *memory, double photo, double i)
{
  const double a = memory[SLOPE_V], saturation = memory[SATURATION], left = photo - i > 0 ? photo - i : 0;
  double u = a * log1p(left / saturation);
  for (int k = 0; k < 30; ++k) {
    const double e = saturation * exp(u / a < 300 ? u / a : 300);
    const double move = (photo - (e - saturation) - u / o->parallel - i) / (e / a + 1 / o->parallel);
    u += move;
    if (fabs(move) < 1e-10 * a) break;
  }
  return u;
}

static struct module_point module_at(const struct pv_array *o, const double *memory, double photo, double i)
{
  const double a = memory[SLOPE_V], u = junction(o, memory, photo, i), bypass = 0.5;
  struct module_point point = {-bypass, -1e-4};
  if (u - o->series * i < -bypass) return point;
  point.volts = u - o->series * i;
  point.slope = -o->series - 1 / (memory[SATURATION] / a * exp(u / a < 300 ? u / a : 300) + 1 / o->parallel);
  return point;
}

static struct module_point string_at(const struct pv_array *o, const double *memory, double i)
{
  const double in_shade = memory[SEEN + 2] * o->modules, in_sun = o->modules - in_shade;
  struct module_point point = module_at(o, memory, memory[PHOTO], i);
  point.volts *= in_sun;
  point.slope *= in_sun;
  if (in_shade == 0) return point;
  const struct module_point dim = module_at(o, memory, memory[PHOTO] * memory[SEEN + 3], i);
  point.volts += in_shade * dim.volts;
  point.slope += in_shade * dim.slope;
  return point;
}

/* Current of one string at a voltage: Newton, kept within a bracket. */
static double string_current(const struct pv_array *o, const double *memory, double v)
{
  double low = -2 * o->short_circuit, high = 2.2 * o->short_circuit, i = memory[GUESS];
  if (i < low) i = low;
  if (i > high) i = high;
  for (int k = 0; k < 40; ++k) {
    const struct module_point point = string_at(o, memory, i);
    const double miss = point.volts - v, next = i - miss / point.slope, before = i;
    if (miss > 0) low = i;
    else high = i;
    i = next > low && next < high ? next : (low + high) / 2;
    if (fabs(i - before) < 1e-9 * o->short_circuit) break;
  }
  return i;
}

static void pv_array_begin(const struct pv_array *o, const struct law *l, const struct span *s, const double *old,
                           double *history, double *memory, double *conductance)
{
  int turned = 0;
  (void)s;
  for (int k = 0; k < 4; ++k) {
    turned |= memory[SEEN + k] != old[l->setting[k]];
    memory[SEEN + k] = old[l->setting[k]];
  }
  if (turned) light(o, memory);
  const double v = old[l->p[0]] - old[l->q[0]];
  memory[GUESS] = string_current(o, memory, v);
  /* The slope is entered anew only when it has moved: each time costs a factoring. */
  const double wanted = -o->strings / string_at(o, memory, memory[GUESS]).slope;
  if (fabs(wanted - memory[SIEMENS]) > 0.02 * memory[SIEMENS]) memory[SIEMENS] = wanted;
  conductance[0] = memory[SIEMENS];
  history[0] = -memory[GUESS] * o->strings - memory[SIEMENS] * v;
}

static void pv_array_end(const struct pv_array *o, const struct law *l, const struct span *s, const double *old,
                         double *now, const double *history, double *memory)
{
  const double v = now[l->p[0]] - now[l->q[0]];
  double *slots = now + l->first;
  (void)o;
  (void)s;
  (void)old;
  slots[0] = -(memory[SIEMENS] * v + history[0]);
  slots[1] = slots[0] * v;
}
