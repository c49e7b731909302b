// The network of demo/veskar as C beside a relay in SystemVerilog: a fault on cable 1 behind 0.3 s, the relay's trip
// opens Q1, the fault is gone. Step by step through the direct programming interface (IEEE 1800, clause 35).
module bench;
  import "DPI-C" function chandle quay_here();
  import "DPI-C" function void quay_start(input chandle model);
  import "DPI-C" function int quay_step(input chandle model);
  import "DPI-C" function real quay_time(input chandle model);
  import "DPI-C" function int quay_set(input chandle model, input int number, input real value);
  import "DPI-C" function real quay_get(input chandle model, input int number);
  // As quay.h has them.
  import "DPI-C" function int quay_number(input string name);

  localparam int STEPS_PER_SAMPLE = 20;  // of 50 us
  localparam real FAULT_S = 0.3, END_S = 0.6;

  logic clock = 0, reset = 1, start, trip;
  logic signed [23:0] sample_a, sample_b, sample_c;  // mA
  relay dut (.*);

  chandle quay;
  int q1, fault, ia, closed;
  real started_s = 0, tripped_s = 0, open_s = 0, peak_A = 0;

  // One sample: some steps of the network, then a clock of the relay.
  task automatic advance();
    for (int k = 0; k < STEPS_PER_SAMPLE; ++k) begin
      if (quay_step(quay) != 0) $fatal(1, "the network diverged");
      if (tripped_s > 0 && open_s == 0 && quay_get(quay, closed) < 0.5) open_s = quay_time(quay);
    end
    sample_a = 24'($rtoi(quay_get(quay, ia) * 1000.0));
    sample_b = 24'($rtoi(quay_get(quay, ia + 1) * 1000.0));
    sample_c = 24'($rtoi(quay_get(quay, ia + 2) * 1000.0));
    #1 clock = 1;
    #1 clock = 0;
  endtask

  initial begin
    quay = quay_here();
    quay_start(quay);
    q1 = quay_number("Q1");
    fault = quay_number("fault");
    ia = quay_number("CT1.ia");
    closed = quay_number("Q1.closed");
    for (int k = 0; k < 12; ++k) advance();
    reset = 0;
    while (quay_time(quay) < FAULT_S) advance();
    if (start) $fatal(1, "the relay starts without a fault");
    void'(quay_set(quay, fault, 1.0));
    while (quay_time(quay) < END_S) begin
      advance();
      if (start && started_s == 0) started_s = quay_time(quay);
      if (trip && tripped_s == 0) begin
        tripped_s = quay_time(quay);
        void'(quay_set(quay, q1, 0.0));
      end
      if (quay_get(quay, ia) > peak_A) peak_A = quay_get(quay, ia);
    end
    $display("start %.1f ms, trip %.1f ms, Q1 open %.1f ms behind the fault; %.1f A at most", 1000 * (started_s - FAULT_S),
             1000 * (tripped_s - FAULT_S), 1000 * (open_s - FAULT_S), peak_A);
    if (started_s == 0 || started_s - FAULT_S > 0.010) $fatal(1, "the start comes late");
    if (tripped_s - started_s < 0.060 || tripped_s - started_s > 0.063) $fatal(1, "the trip is not 60 ms behind the start");
    if (open_s == 0 || start) $fatal(1, "the fault is not cleared");
    $display("pass");
    $finish;
  end
endmodule
