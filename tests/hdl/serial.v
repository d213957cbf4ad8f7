// A serial sender by the book: a bit counter over a shift register, driven by a divided system clock.
// Parity: 0 none, 1 odd, 2 even. One parity bit is wrong where WRONG says so.
`timescale 1ns/1ps
module sender #(parameter DIVIDE = 868, BITS = 8, PARITY = 0, STOPS = 1) (
  input clk, input reset, input start, input [8:0] value, input spoil, output reg line, output reg busy);
  reg [15:0] count; reg [3:0] place; reg [11:0] shift; wire tick = count == 0;
  wire even = ^(value & ((1 << BITS) - 1));
  wire check = (PARITY == 1 ? ~even : even) ^ spoil;
  localparam LENGTH = 1 + BITS + (PARITY ? 1 : 0) + STOPS;
  always @(posedge clk)
    if (reset) begin line <= 1; busy <= 0; count <= 0; end
    else if (!busy && start) begin
      busy <= 1; place <= 0; count <= DIVIDE - 1; line <= 0;
      shift <= PARITY ? ({12{1'b1}} << (BITS + 1)) | (check << BITS) | (value & ((1 << BITS) - 1))
                      : ({12{1'b1}} << BITS) | (value & ((1 << BITS) - 1));
    end else if (busy) begin
      if (tick) begin
        count <= DIVIDE - 1; place <= place + 1; line <= shift[0]; shift <= {1'b1, shift[11:1]};
        if (place == LENGTH - 1) begin busy <= 0; line <= 1; end
      end else count <= count - 1;
    end
endmodule

module bench;
  parameter DIVIDE = 16, BITS = 8, PARITY = 0, STOPS = 1, COUNT = 200, SEED = 1, WRONG = 0, GAP = 0;
  reg clk = 0, reset = 1, start = 0, spoil = 0; reg [8:0] value = 0; wire tx, busy;
  integer n, seed, pause;
  always #271 clk = ~clk;
  sender #(DIVIDE, BITS, PARITY, STOPS) dut (clk, reset, start, value, spoil, tx, busy);
  initial begin
    $dumpfile("out.vcd"); $dumpvars(0, bench);
    seed = SEED; repeat (20) @(negedge clk); reset = 0; repeat (20 * DIVIDE) @(posedge clk);
    for (n = 0; n < COUNT; n = n + 1) begin
      value = $random(seed); value = value & ((1 << BITS) - 1); spoil = WRONG != 0 && (n % WRONG) == WRONG / 2;
      @(negedge clk); start = 1; @(negedge clk); start = 0; @(negedge clk);
      $display("byte %0d %0d", value, spoil);
      while (busy) @(negedge clk);
      // Pauses of any fraction of a bit.
      if (GAP != 0) begin pause = $random(seed) & 32'h7fffffff; repeat (pause % (GAP * DIVIDE)) @(posedge clk); end
      if (n % 40 == 39) repeat (30 * DIVIDE) @(posedge clk);
    end
    repeat (30 * DIVIDE) @(posedge clk); $finish;
  end
endmodule
