// An SPI host with two selects and a device that drives its line only while it is selected.
`timescale 1ns/1ps
module bench;
  parameter CPOL = 0, CPHA = 0, LSB = 0, WORD = 8, HALF = 125, COUNT = 30, SEED = 3, HOLD = 1;
  reg sck = CPOL; reg [1:0] cs_n = 2'b11; reg mosi = 0; wire miso; reg answer = 0; reg done = 0;
  wire cs_a = cs_n[0]; wire cs_b = cs_n[1];
  assign miso = (&cs_n) ? 1'bz : answer;
  reg [31:0] out, in; integer n, k, w, words, seed, which;
  function bit_at(input [31:0] word, input integer place);
    bit_at = LSB ? word[place] : word[WORD - 1 - place];
  endfunction
  initial begin
    $dumpfile("out.vcd"); $dumpvars(0, bench);
    seed = SEED; #(40 * HALF);
    for (n = 0; n < COUNT; n = n + 1) begin
      which = $random(seed) & 1; words = 1 + ($random(seed) & 3);
      cs_n[which] = 0;
      for (w = 0; w < words; w = w + 1) begin
        out = $random(seed); in = $random(seed);
        out = out & ((64'd1 << WORD) - 1); in = in & ((64'd1 << WORD) - 1);
        $display("word %0d %0d %0d %0d %0d", n, which, w, out, in);
        for (k = 0; k < WORD; k = k + 1) begin
          if (CPHA == 0) begin
            mosi = bit_at(out, k); #(HOLD) answer = bit_at(in, k); #(HALF - HOLD);
            sck = ~sck; #(HALF); sck = ~sck;
          end else begin
            #(HALF / 2) sck = ~sck; mosi = bit_at(out, k); #(HOLD) answer = bit_at(in, k); #(HALF - HOLD);
            sck = ~sck; #(HALF - HALF / 2);
          end
        end
      end
      #(HALF); cs_n = 2'b11; #(HALF * (6 + ($random(seed) & 31)));
    end
    done = 1; #(20 * HALF); $finish;
  end
endmodule
