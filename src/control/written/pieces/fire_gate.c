/* An edge of a gate of the control; of what finds no room the model keeps count. */
static void fire_gate(model *m, int number, int on, double at)
{
  if (NAME_fire(m, control_gate[number], on, at) == 2) ++m->edges_lost;
}
