// The relay that is verified: definite time overcurrent in three phases, as a gate array has it. Samples of the
// secondary currents come in integers of 1 mA, 20 a cycle.
module relay #(
    parameter int PICKUP_MA = 3000,  // peak of the secondary current
    parameter int HOLD_SAMPLES = 10,  // half a cycle: so long each peak counts
    parameter int DELAY_SAMPLES = 60  // 60 ms
) (
    input  logic clock,
    input  logic reset,
    input  logic signed [23:0] sample_a,
    input  logic signed [23:0] sample_b,
    input  logic signed [23:0] sample_c,
    output logic start,
    output logic trip
);
  function automatic logic above(input logic signed [23:0] sample);
    return sample > 24'(PICKUP_MA) || sample < -24'(PICKUP_MA);
  endfunction

  int unsigned held, since;
  assign start = held > 0;

  always_ff @(posedge clock) begin
    if (reset) held <= 0;
    else if (above(sample_a) || above(sample_b) || above(sample_c)) held <= HOLD_SAMPLES;
    else if (held > 0) held <= held - 1;

    if (reset || !start) since <= 0;
    else since <= since + 1;

    if (reset) trip <= 0;
    else if (since >= DELAY_SAMPLES) trip <= 1;
  end
endmodule
