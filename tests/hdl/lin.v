// LIN: a commander's headers and responders' answers, both checksums, one header that nobody answers.
`timescale 1ns/1ps
module bench;
  parameter BIT = 52083, COUNT = 24, SEED = 7;
  reg lin = 1; integer n, k, b, seed, size, sum; reg [5:0] id; reg [7:0] pid, value; reg enhanced, answers;
  task octet(input [7:0] v); begin
    lin = 0; #(BIT); for (k = 0; k < 8; k = k + 1) begin lin = v[k]; #(BIT); end lin = 1; #(BIT); end
  endtask
  initial begin
    $dumpfile("out.vcd"); $dumpvars(0, bench);
    seed = SEED; #(30 * BIT);
    for (n = 0; n < COUNT; n = n + 1) begin
      id = $random(seed); if (id >= 60) id = id - 20;
      pid = {~(id[1] ^ id[3] ^ id[4] ^ id[5]), id[0] ^ id[1] ^ id[2] ^ id[4], id};
      enhanced = n & 1; answers = n % 7 != 5; size = 1 + ($random(seed) & 7);
      lin = 0; #(13 * BIT); lin = 1; #(2 * BIT); octet(8'h55); #(BIT / 3); octet(pid);
      $write("frame %0d %0d %0d", id, enhanced, answers);
      if (answers) begin
        sum = enhanced ? pid : 0; #(BIT * 7 / 3);
        for (b = 0; b < size; b = b + 1) begin
          value = $random(seed); $write(" %0d", value); octet(value); #(BIT / 7);
          sum = sum + value; if (sum > 255) sum = sum - 255; end
        octet(~sum[7:0]);
      end
      $write("\n"); #(BIT * (20 + ($random(seed) & 63)));
    end
    #(30 * BIT); $finish;
  end
endmodule
