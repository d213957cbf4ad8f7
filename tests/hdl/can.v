// Classic CAN: a bit-serial sender with stuffing and checksum as shift registers, an acknowledging listener.
`timescale 1ns/1ps
module bench;
  parameter BIT = 2000, COUNT = 20, SEED = 9;
  reg sender = 1, listener = 1; wire bus = sender & listener; reg sample = 0;
  reg [14:0] crc; reg last; integer run, n, k, b, seed, size; reg ext; reg [28:0] id; reg [7:0] value;
  task raw(input level); begin sender = level; #(BIT * 3 / 4) sample = 1; #(BIT / 4) sample = 0; end
  endtask
  task stuffed(input level); begin
    raw(level);
    if (level == last) run = run + 1; else begin last = level; run = 1; end
    if (run == 5) begin raw(~level); last = ~level; run = 1; end end
  endtask
  task checked(input level); begin
    crc = {crc[13:0], 1'b0} ^ ((crc[14] ^ level) ? 15'h4599 : 15'h0); stuffed(level); end
  endtask
  initial begin
    $dumpfile("out.vcd"); $dumpvars(0, bench);
    seed = SEED; #(40 * BIT);
    for (n = 0; n < COUNT; n = n + 1) begin
      ext = $random(seed); id = $random(seed); if (!ext) id = id & 29'h7ff; size = ($random(seed) & 15) % 9;
      $write("frame %0d %0d", ext, id);
      crc = 0; last = 1; run = 0; checked(0);
      if (ext) begin
        for (k = 28; k >= 18; k = k - 1) checked(id[k]); checked(1); checked(1);
        for (k = 17; k >= 0; k = k - 1) checked(id[k]); checked(0); checked(0); checked(0);
      end else begin for (k = 10; k >= 0; k = k - 1) checked(id[k]); checked(0); checked(0); checked(0); end
      for (k = 3; k >= 0; k = k - 1) checked(size[k]);
      for (b = 0; b < size; b = b + 1) begin
        value = $random(seed); $write(" %0d", value); for (k = 7; k >= 0; k = k - 1) checked(value[k]); end
      $write("\n");
      begin : sum reg [14:0] whole; whole = crc; for (k = 14; k >= 0; k = k - 1) stuffed(whole[k]); end
      raw(1); listener = 0; raw(1); listener = 1; raw(1); repeat (7) raw(1); repeat (3) raw(1);
      if (n & 1) #(BIT * ($random(seed) & 31));
    end
    #(40 * BIT); $finish;
  end
endmodule
