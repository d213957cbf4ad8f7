// I2C with open drains and pull-ups: writes and reads with a repeated start, an address that nobody answers,
// a device that holds the clock low now and then.
`timescale 1ns/1ps
module bench;
  parameter QUARTER = 625, COUNT = 12, SEED = 5;
  tri1 scl, sda; reg host_scl = 1, host_sda = 1, device_sda = 1, device_scl = 1;
  assign scl = host_scl ? 1'bz : 1'b0; assign scl = device_scl ? 1'bz : 1'b0;
  assign sda = host_sda ? 1'bz : 1'b0; assign sda = device_sda ? 1'bz : 1'b0;
  integer n, k, b, seed, size; reg [7:0] value; reg [6:0] address; reg answers;
  task one(input level); begin
    #(QUARTER) host_sda = level; #(QUARTER) host_scl = 1; #(2 * QUARTER) host_scl = 0; end
  endtask
  task sent(input [7:0] octet, input ack, input hold); begin
    for (k = 7; k >= 0; k = k - 1) one(octet[k]);
    #(QUARTER) host_sda = 1; if (ack) device_sda = 0;
    if (hold) begin device_scl = 0; #(7 * QUARTER) device_scl = 1; end
    #(QUARTER) host_scl = 1; #(2 * QUARTER) host_scl = 0; #(QUARTER / 4) device_sda = 1; end
  endtask
  task received(input [7:0] octet, input ack); begin
    host_sda = 1;
    for (k = 7; k >= 0; k = k - 1) begin
      #(QUARTER) device_sda = octet[k]; #(QUARTER) host_scl = 1; #(2 * QUARTER) host_scl = 0; end
    #(QUARTER / 4) device_sda = 1; one(!ack); end
  endtask
  task started; begin #(QUARTER) host_sda = 1; #(QUARTER) host_scl = 1; #(QUARTER) host_sda = 0; #(QUARTER) host_scl = 0; end
  endtask
  task stopped; begin #(QUARTER) host_sda = 0; #(QUARTER) host_scl = 1; #(QUARTER) host_sda = 1; #(8 * QUARTER); end
  endtask
  initial begin
    $dumpfile("out.vcd"); $dumpvars(0, bench);
    seed = SEED; #(40 * QUARTER);
    for (n = 0; n < COUNT; n = n + 1) begin
      address = 8 + ($random(seed) & 63); answers = n % 5 != 3;
      started; sent({address, 1'b0}, answers, 0); $write("write %0d %0d", address, answers);
      if (answers) begin
        size = 1 + ($random(seed) & 3);
        for (b = 0; b < size; b = b + 1) begin value = $random(seed); sent(value, 1, n % 4 == 1); $write(" %0d", value); end
        $write("\n");
        if (n % 2) begin
          started; sent({address, 1'b1}, 1, 0); $write("read %0d 1", address);
          for (b = 0; b < size; b = b + 1) begin
            value = $random(seed); received(value, b != size - 1); $write(" %0d", value); end
          $write("\n");
        end
      end else $write("\n");
      stopped;
    end
    #(40 * QUARTER); $finish;
  end
endmodule
