"""Modbus against pymodbus, which shares no code with ours: both sides, TCP and a line."""
import struct
import threading

from field_case import *
from pymodbus.client import ModbusSerialClient, ModbusTcpClient

port = free_port()
case = make_case("modbus", f"""
[modbus_server.meter]
port = {port}
unit = 7
input_registers = ["0: voltage as float32", "2: sent in 10000", "4: sent as int64", "8: yard.va in V as natural16"]
discrete_inputs = ["0: Q1", "3: bench.remote"]
holding_registers = ["100: wanted in kW as int32", "102: reactive in kvar as natural16"]
coils = ["0: Q1", "1: bench.remote"]
""")
has(run("check", case), "modbus_server meter")


def registers(answer):
    expect(not answer.isError(), f"{answer}")
    return answer.registers


with running(case) as said:
    connected(port).close()
    client = ModbusTcpClient("127.0.0.1", port=port, timeout=5)
    expect(client.connect(), "no connection")
    wait_for(lambda: abs(struct.unpack(">f", struct.pack(">HH", *registers(client.read_input_registers(0, 2, slave=7))))[0] - 6280) < 120,
             message="no voltage of 11 kV / sqrt 3")
    expect(registers(client.read_input_registers(2, 1, slave=7)) == [300], "3 MW in 10 kW")
    expect(client.read_input_registers(3, 1, slave=7).exception_code == 2, "a gap in the map")
    expect(struct.unpack(">q", struct.pack(">4H", *registers(client.read_input_registers(4, 4, slave=7))))[0] == 3_000_000, "int64")
    expect(client.read_discrete_inputs(0, 1, slave=7).bits[0] is True, "Q1 is closed")
    expect(client.read_discrete_inputs(1, 1, slave=7).exception_code == 2, "a gap between inputs")
    # What is set is done when the answer comes.
    high_low = struct.unpack(">HH", struct.pack(">i", 2500))
    expect(not client.write_registers(100, list(high_low), slave=7).isError(), "a set point of two registers")
    wait_for(lambda: registers(client.read_input_registers(2, 1, slave=7)) == [250], message="the control did not take 2.5 MW")
    expect(registers(client.read_holding_registers(100, 2, slave=7)) == list(high_low), "it reads back")
    expect(client.write_register(100, 1, slave=7).exception_code == 2, "half a number")
    expect(not client.write_register(102, 800, slave=7).isError(), "one register")
    expect(client.write_register(200, 1, slave=7).exception_code == 2, "no such register")
    expect(not client.write_coil(0, False, slave=7).isError(), "opens Q1")
    wait_for(lambda: client.read_coils(0, 1, slave=7).bits[0] is False, message="Q1 did not open")
    wait_for(lambda: client.read_discrete_inputs(0, 1, slave=7).bits[0] is False, message="nor is it shown")
    expect(not client.write_coils(0, [True, True], slave=7).isError(), "two coils")
    wait_for(lambda: client.read_coils(0, 2, slave=7).bits[:2] == [True, True], message="two coils")
    expect(client.read_coils(0, 1, slave=8).exception_code == 11, "another unit")
    mixed = client.readwrite_registers(read_address=100, read_count=3, write_address=102, write_registers=[900], slave=7)
    expect(registers(mixed)[2] == 900, "read and write at once")
    expect(client.mask_write_register(102, 0xFFF0, 0x0005, slave=7).isError() is False, "mask")
    expect(registers(client.read_holding_registers(102, 1, slave=7)) == [(900 & 0xFFF0) | 5], "masked")
    # What is no request is told, and ends the connection or is refused; nobody else notices.
    with connected(port) as other:
        other.sendall(bytes([0, 1, 0, 0, 0, 2, 7, 99]))
        expect(other.recv(64)[7:] == bytes([0x80 + 99, 1]), "an unknown function")
        other.sendall(bytes([0, 1, 0, 0, 0, 3, 7, 3, 0]))
        expect(other.recv(64)[7:] == bytes([0x83, 3]), "a request cut short")
        other.sendall(b"GET / HTTP/1.1\r\n\r\n")
        expect(other.recv(64) == b"", "no frame at all: closed")
    # Half a request keeps nobody waiting, nor do fifty masters.
    half = connected(port)
    half.sendall(bytes([0, 1, 0, 0, 0, 6, 7, 4, 0]))
    answered = []

    def poll():
        one = ModbusTcpClient("127.0.0.1", port=port, timeout=10)
        one.connect()
        good = all(not one.read_input_registers(0, 2, slave=7).isError() for _ in range(40))
        answered.append(good)
        one.close()
    masters = [threading.Thread(target=poll) for _ in range(50)]
    for one in masters:
        one.start()
    for one in masters:
        one.join()
    expect(answered == [True] * 50, f"{len(answered)} masters, {answered.count(True)} well")
    half.close()
    storm = [connected(port) for _ in range(200)]
    for one in storm:
        one.close()
    wait_for(lambda: not client.read_coils(0, 1, slave=7).isError(), message="it did not stand the storm")
    client.close()
has(said.text, "modbus_server.meter", "Modbus server, unit 7", "2 MALFORMED", "connections", "TCP 127.0.0.1")

# A line: a pseudo-terminal on one side, pymodbus on the other.
line = scratch / "meter-line"
serial = make_case("modbus-line", f"""
[modbus_server.meter]
line = "pty:{line}"
unit = 3
words = "low first"
input_registers = ["0: sent as float32"]
coils = ["0: Q1"]
""")
with running(serial) as said:
    wait_for(lambda: line.exists(), message="no pseudo-terminal")
    master = ModbusSerialClient(str(line), baudrate=9600, timeout=2)
    expect(master.connect(), "no line")
    wait_for(lambda: not master.read_coils(0, 1, slave=3).isError(), message="no answer on the line")
    low, high = registers(master.read_input_registers(0, 2, slave=3))
    expect(struct.unpack(">f", struct.pack(">HH", high, low))[0] == 3e6, "low word first")
    expect(master.read_coils(0, 1, slave=4).isError(), "another unit does not answer")
    expect(not master.write_coil(0, False, slave=3).isError(), "opens")
    master.close()
has(said.text, "unit 3", str(line))

# Our client and a server of pymodbus.
server_port = free_port()
server = subprocess.Popen([sys.executable, "-c", f"""
from pymodbus.server import StartTcpServer
from pymodbus.datastore import ModbusSequentialDataBlock, ModbusSlaveContext, ModbusServerContext
block = lambda: ModbusSequentialDataBlock(0, [0] * 200)
slave = ModbusSlaveContext(di=block(), co=block(), hr=block(), ir=block(), zero_mode=True)
slave.setValues(3, 10, [1234])
slave.setValues(1, 0, [0])
StartTcpServer(context=ModbusServerContext(slave, single=True), address=("127.0.0.1", {server_port}))
"""], stderr=subprocess.DEVNULL)
try:
    connected(server_port).close()
    follows = make_case("modbus-client", f"""
[modbus_client.gateway]
port = {server_port}
period = "20 ms"
holding_registers = ["10: wanted in kW as natural16"]
coils = ["0: Q1"]
writes_registers = ["50: sent in 1000 as int16 within 1000"]
writes_coils = ["5: Q1"]
""")
    with running(follows) as said:
        eye = ModbusTcpClient("127.0.0.1", port=server_port, timeout=5)
        eye.connect()
        wait_for(lambda: registers(eye.read_holding_registers(50, 1)) == [1234], message="1,234 kW did not go there and back")
        wait_for(lambda: eye.read_coils(5, 1).bits[0] is False, message="Q1 was not opened by its coil")
        eye.write_register(10, 4321)
        wait_for(lambda: registers(eye.read_holding_registers(50, 1)) == [4321], message="4,321 kW did not follow")
        server.terminate()
        server.wait()
        time.sleep(0.3)
    has(said.text, "modbus_client.gateway", "TCP to 127.0.0.1")
finally:
    server.kill()

# Flaws are told with their place, one of each field.
bad = make_case("modbus-bad", """
[modbus_server.meter]
address = "here"
input_registers = ["0: voltage as float32", "1: sent"]
holding_registers = ["9: wanted as float16"]
coils = ["x: Q7"]
discrete_inputs = ["5: Q9"]

[modbus_server.other]
holding_registers = ["11: wanted near 3"]
discrete_inputs = ["5: Q1", "5: Q1"]
""")
has(run("check", bad, code=2), "modbus_server.meter", "\"here\" is no address", "what stands at 0 reaches into 1", "\"x\" is no address",
    "no type \"float16\"", "\"near\"", "Q9", "5 stands there twice")
finish()
