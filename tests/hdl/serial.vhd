-- A serial sender in VHDL: 8 bits, even parity, one stop bit, pauses of any length.
library ieee; use ieee.std_logic_1164.all; use ieee.numeric_std.all;
library std; use std.textio.all;
entity bench is end entity;
architecture test of bench is
  constant BIT_TIME : time := 26.0416 us;
  signal txd : std_logic := '1';
  signal sending, parity, baud_clock : std_logic := '0';
  signal running : boolean := true;
begin
  clock : process begin
    while running loop baud_clock <= '0'; wait for BIT_TIME / 2; baud_clock <= '1'; wait for BIT_TIME / 2; end loop;
    wait;
  end process;
  send : process
    variable state : unsigned(15 downto 0) := x"ACE1";
    variable value : std_logic_vector(7 downto 0);
    variable even : std_logic;
    variable text : line;
    procedure step is begin
      for k in 1 to 9 loop
        state := state(14 downto 0) & (state(15) xor state(13) xor state(12) xor state(10));
      end loop;
    end procedure;
  begin
    wait for 20 * BIT_TIME;
    for n in 1 to 150 loop
      step; value := std_logic_vector(state(7 downto 0)); even := '0';
      write(text, string'("byte ")); write(text, to_integer(unsigned(value))); write(text, string'(" 0"));
      writeline(output, text);
      sending <= '1'; txd <= '0'; wait for BIT_TIME;
      for k in 0 to 7 loop txd <= value(k); even := even xor value(k); parity <= even; wait for BIT_TIME; end loop;
      txd <= even; wait for BIT_TIME; txd <= '1'; wait for BIT_TIME; sending <= '0';
      step; wait for BIT_TIME * to_integer(state(5 downto 0)) / 17;
      if n mod 30 = 0 then wait for 40 * BIT_TIME; end if;
    end loop;
    wait for 20 * BIT_TIME; running <= false; wait;
  end process;
end architecture;
