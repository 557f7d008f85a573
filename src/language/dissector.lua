-- Everything below is the same for each description: it reads `description`, which stands above.
-- The layout is that of docs/wire-format.md, link version 5. Of encrypted datagrams it shows the header.

local known_link_version = 5

local proto = Proto("kwind_" .. description.name,
  "Kestrel Wind, " .. description.name .. " " .. description.version)
local prefix = "kwind_" .. description.name .. "."

-- ---- fields that can be shown, filtered and exported ----

local all_fields = {}
local function add_field(make, path, label, ...)
  local field = make(prefix .. path, label, ...)
  all_fields[#all_fields + 1] = field
  return field
end

local link = {
  form = add_field(ProtoField.string, "form", "Form"),
  connection = add_field(ProtoField.uint32, "connection", "Connection id", base.HEX),
  number = add_field(ProtoField.uint32, "number", "Packet number, low bits"),
  ack = add_field(ProtoField.string, "ack", "Acks"),
  ack_delay = add_field(ProtoField.double, "ack_delay", "Ack delay in ms"),
  check = add_field(ProtoField.uint32, "check", "Check", base.HEX),
  frame = add_field(ProtoField.string, "frame", "Frame"),
  channel = add_field(ProtoField.string, "channel", "Channel"),
  message_number = add_field(ProtoField.string, "message_number", "Message number or origin"),
  mode = add_field(ProtoField.string, "mode", "Mode"),
  message = add_field(ProtoField.string, "message", "Message"),
  message_bits = add_field(ProtoField.uint32, "message_bits", "Message's bits"),
  request_id = add_field(ProtoField.uint32, "request_id", "Request id"),
  version = add_field(ProtoField.uint32, "version", "Version"),
  digest = add_field(ProtoField.string, "digest", "Digest"),
  nonce = add_field(ProtoField.string, "nonce", "Nonce"),
  cookie = add_field(ProtoField.string, "cookie", "Cookie"),
  protocol = add_field(ProtoField.string, "protocol", "Protocol"),
  link_version = add_field(ProtoField.uint32, "link_version", "Link version"),
  error = add_field(ProtoField.uint32, "error", "Error number"),
  text = add_field(ProtoField.string, "text", "Text"),
}
local malformed = ProtoExpert.new(prefix .. "malformed", "These bits are not what they should be",
  expert.group.MALFORMED, expert.severity.ERROR)

-- "TakeTow" -> "take_tow"
local function snake(name)
  return (name:gsub("(%l)(%u)", "%1_%2"):lower())
end

local makers = {
  boolean = ProtoField.bool, integer = ProtoField.int32, count = ProtoField.uint32,
  real = ProtoField.double, f32 = ProtoField.double, f64 = ProtoField.double,
  angle = ProtoField.double, text = ProtoField.string, bytes = ProtoField.string,
  enumeration = ProtoField.string, ref = ProtoField.uint32, peer = ProtoField.uint32,
  tick = ProtoField.uint32, direction2 = ProtoField.string, direction3 = ProtoField.string,
  rotation = ProtoField.string, grid = ProtoField.string,
}

-- A field of the analyser for each leaf below `path`, kept by path: `world.helm.rudder`.
local leaves = {}
local function declare_type(path, label, type)
  if leaves[path] then return end
  if type.kind == "record" then
    for _, field in ipairs(records[type.index]) do
      declare_type(path .. "." .. field.name, field.name, field.type)
    end
  elseif type.kind == "list" or type.kind == "maybe" then
    declare_type(path, label, type.element)
  elseif type.kind == "vec" then
    for i = 1, type.limit do
      local name = ("xyz"):sub(i, i)
      declare_type(path .. "." .. name, name, type.element)
    end
  elseif type.kind == "flags" then
    for _, flag in ipairs(flags[type.index]) do
      leaves[path .. "." .. flag.name] =
        add_field(ProtoField.bool, path .. "." .. flag.name, flag.name)
    end
  elseif type.kind == "one_of" then
    -- The choice has the path of the field itself, so that a case may have any name.
    leaves[path] = add_field(ProtoField.string, path, label)
    for _, case in ipairs(one_ofs[type.index]) do
      if case.type then declare_type(path .. "." .. case.name, case.name, case.type) end
    end
  else
    local make = makers[type.kind]
    if type.kind == "integer" and type.wide then make = ProtoField.int64 end
    leaves[path] = add_field(make, path, label)
    if type.kind == "grid" then
      leaves[path .. ".row"] = add_field(ProtoField.string, path .. ".row", "row")
    end
  end
end
for _, message in ipairs(description.messages) do
  message.path = snake(message.name)
  for _, field in ipairs(message.fields) do
    declare_type(message.path .. "." .. field.name, field.name, field.type)
  end
end
proto.fields = all_fields
proto.experts = { malformed }

-- ---- bits, from the lowest of the first byte upwards ----

local Bits = {}
Bits.__index = Bits

local function reader(tvb, first_bit, last_bit)
  return setmetatable({ tvb = tvb, bytes = tvb:bytes(), at = first_bit, stop = last_bit }, Bits)
end

function Bits:left() return self.stop - self.at end

-- Up to 53 bits, as many as a number holds exactly.
function Bits:get(count)
  if count > self:left() then error("the bits end too early", 0) end
  local value, have = 0, 0
  while have < count do
    local offset = self.at % 8
    local take = math.min(8 - offset, count - have)
    local byte = self.bytes:get_index(math.floor(self.at / 8))
    local part = math.floor(byte / 2 ^ offset) % 2 ^ take
    value = value + part * 2 ^ have
    have = have + take
    self.at = self.at + take
  end
  return value
end

-- Exp-Golomb of order k.
function Bits:count(k)
  local zeros = 0
  while self:get(1) == 0 do
    zeros = zeros + 1
    if zeros > 32 then error("no count is that large", 0) end
  end
  local head = 2 ^ zeros + self:get(zeros)
  return (head - 1) * 2 ^ k + self:get(k)
end

function Bits:string(bytes)
  local out = {}
  for i = 1, bytes do out[i] = string.char(self:get(8)) end
  return table.concat(out)
end

-- As above, of text: UTF-8 (RFC 3629) without surrogates and needless bytes.
function Bits:text(bytes)
  local text, i = self:string(bytes), 1
  while i <= #text do
    local lead = text:byte(i)
    local more = lead < 0x80 and 0 or lead >= 0xc2 and lead < 0xe0 and 1
      or lead >= 0xe0 and lead < 0xf0 and 2 or lead >= 0xf0 and lead < 0xf5 and 3
    local tail = more and text:match("^[\128-\191]*", i + 1)
    local second = text:byte(i + 1) or 0
    if not more or #tail < more or (lead == 0xe0 and second < 0xa0)
      or (lead == 0xed and second > 0x9f) or (lead == 0xf0 and second < 0x90)
      or (lead == 0xf4 and second > 0x8f) then
      error("a text that is not UTF-8", 0)
    end
    i = i + 1 + more
  end
  return text
end

function Bits:hex(bytes)
  return (self:string(bytes):gsub(".", function(c) return string.format("%02x", c:byte()) end))
end

-- The bytes that hold the bits from `first` up to where the reader stands.
function Bits:range(first)
  local from = math.min(math.floor(first / 8), self.tvb:len() - 1)
  local to = math.max(from + 1, math.ceil(self.at / 8))
  return self.tvb(from, math.min(to, self.tvb:len()) - from)
end

local function bits_for(count)
  local bits = 0
  while 2 ^ bits < count do bits = bits + 1 end
  return bits
end

local function alive(thing, version)
  return version >= thing.since and (thing.gone == 0 or version < thing.gone)
end

local function living(all, version)
  local out = {}
  for _, each in ipairs(all) do
    if alive(each, version) then out[#out + 1] = each end
  end
  return out
end

-- ---- values ----

local function below(value, count)
  if value >= count then error("a value beyond its range", 0) end
  return value
end

-- A whole number of more than 53 bits, in parts of 16, lowest first; and its division in place.
local function get_parts(bits, count)
  local parts = {}
  while count > 0 do
    local take = math.min(16, count)
    parts[#parts + 1] = bits:get(take)
    count = count - take
  end
  return parts
end
local function divide(parts, by)
  local rest = 0
  for i = #parts, 1, -1 do
    local value = rest * 65536 + parts[i]
    parts[i] = math.floor(value / by)
    rest = value % by
  end
  return rest
end

local function components(values)
  local out = {}
  for i, value in ipairs(values) do out[i] = string.format("%.4f", value) end
  return table.concat(out, " ")
end

local readers = {}
function readers.boolean(bits) return bits:get(1) == 1 end
function readers.integer(bits, type)
  if not type.wide then return type.lo + below(bits:get(type.bits), type.last + 1) end
  local low = bits:get(math.min(32, type.bits))
  local high = bits:get(math.max(0, type.bits - 32))
  if UInt64.new(low, high) > UInt64.new(type.most[1], type.most[2]) then
    error("a value beyond its range", 0)
  end
  return Int64.new(low, high) + Int64.new(type.wide[1], type.wide[2])
end
function readers.count(bits, type) return below(bits:count(3), type.limit + 1) end
function readers.real(bits, type)
  return (type.lo + below(bits:get(type.bits), type.count) * type.step) / type.scale
end
readers.angle = readers.real
function readers.f32(bits) return (Struct.unpack("<f", bits:string(4))) end
function readers.f64(bits) return (Struct.unpack("<d", bits:string(8))) end
function readers.direction2(bits, type)
  local angle = math.rad(readers.real(bits, type))
  return components({ math.cos(angle), math.sin(angle) })
end
-- A point of the octahedron, unfolded to a square.
function readers.direction3(bits, type)
  local half, side = type.half, 2 * type.half + 1
  local index = below(bits:get(type.bits), side * side)
  local u, v = math.floor(index / side) - half, index % side - half
  local x, y, z = u, v, half - math.abs(u) - math.abs(v)
  if z < 0 then
    x = (half - math.abs(v)) * (u < 0 and -1 or 1)
    y = (half - math.abs(u)) * (v < 0 and -1 or 1)
  end
  local length = math.sqrt(x * x + y * y + z * z)
  return components({ x / length, y / length, z / length })
end
-- The place of the largest component, and steps of the others.
function readers.rotation(bits, type)
  local half, side = type.half, 2 * type.half + 1
  local parts = get_parts(bits, type.bits)
  local rest = {}
  for i = 3, 1, -1 do rest[i] = divide(parts, side) - half end
  local largest = below(divide(parts, 65536) + 1, 5)
  local square, out, next_rest = 2 * half * half, {}, 1
  local whole = math.sqrt(square)
  for i = 1, 4 do
    if i ~= largest then
      square = square - rest[next_rest] ^ 2
      out[i] = rest[next_rest] / whole
      next_rest = next_rest + 1
    end
  end
  out[largest] = math.sqrt(math.max(0, square)) / whole
  return components(out)
end
function readers.text(bits, type)
  return bits:text(below(bits:get(bits_for(type.limit + 1)), type.limit + 1))
end
function readers.bytes(bits, type)
  return bits:hex(below(bits:get(bits_for(type.limit + 1)), type.limit + 1))
end
local function choice(bits, all, version)
  local known = living(all, version)
  return known[below(bits:get(bits_for(#known)), #known) + 1]
end
function readers.enumeration(bits, type, version)
  return choice(bits, enums[type.index], version).name
end
function readers.ref(bits, type)
  local index = below(bits:get(bits_for(type.limit * 16 + 1)), type.limit * 16 + 1)
  if index == 0 then return 0, " (none)" end
  return 1 + math.floor((index - 1) / 16), " (generation " .. (index - 1) % 16 .. ")"
end
function readers.peer(bits, type) return below(bits:get(bits_for(type.limit)), type.limit) end
function readers.tick(bits) return bits:get(16) end

-- Runs of cells that are as predicted, and differences: schema-language.md.
function readers.grid(bits, type, version)
  local cell = type.element
  local known = cell.kind == "enumeration" and living(enums[cell.index], version)
  local count = known and #known or cell.kind == "boolean" and 2 or cell.count or cell.last + 1
  local named = known or cell.kind == "boolean"
  local width, height = type.limit, type.height
  local before, above, run, others = 0, 0, nil, 0
  local rows = {}
  for y = 1, height do
    local row = {}
    for x = 1, width do
      run = run or below(bits:count(0), width * height - (y - 1) * width - x + 2)
      if x == 1 then before = above end
      if run > 0 then
        run = run - 1
      else
        if named then
          local index = below(bits:get(bits_for(count - 1)), count - 1)
          before = index >= before and index + 1 or index
        else
          local code = bits:count(1)
          local distance = math.floor(code / 2) + 1
          before = code % 2 == 0 and before + distance or before - distance
          if before < 0 then error("a cell below its range", 0) end
        end
        below(before, count)
        run = nil
        others = others + 1
      end
      if x == 1 then above = before end
      row[x] = known and known[before + 1].name
        or cell.kind == "boolean" and (before == 1 and "true" or "false")
        or (cell.lo + before * (cell.step or 1)) / (cell.scale or 1)
    end
    rows[y] = row
  end
  return string.format("%d x %d, %d cells differ from those before them", width, height, others),
    nil, rows
end

-- ---- the tree of a message ----

local show_fields

local function show(tree, bits, path, label, type, version, unit)
  local first = bits.at
  if type.kind == "record" then
    local branch = tree:add(bits.tvb(0, 0), label)
    show_fields(branch, bits, path, records[type.index], version)
    branch:set_len(0)
  elseif type.kind == "list" then
    local length = below(bits:get(bits_for(type.limit + 1)), type.limit + 1)
    local branch = tree:add(bits:range(first), label .. ": " .. length .. " items")
    for i = 1, length do
      show(branch, bits, path, label .. "[" .. (i - 1) .. "]", type.element, version, unit)
    end
  elseif type.kind == "maybe" then
    if bits:get(1) == 1 then return show(tree, bits, path, label, type.element, version, unit) end
    tree:add(bits:range(first), label .. ": none")
  elseif type.kind == "vec" then
    for i = 1, type.limit do
      local name = ("xyz"):sub(i, i)
      show(tree, bits, path .. "." .. name, label .. "." .. name, type.element, version, unit)
    end
  elseif type.kind == "flags" then
    for _, flag in ipairs(living(flags[type.index], version)) do
      first = bits.at
      local set = bits:get(1) == 1
      local item = tree:add(leaves[path .. "." .. flag.name], bits:range(first), set)
      item:set_text(label .. "." .. flag.name .. ": " .. (set and "set" or "not set"))
    end
  elseif type.kind == "one_of" then
    local case = choice(bits, one_ofs[type.index], version)
    tree:add(leaves[path], bits:range(first), case.name)
    if case.type then
      show(tree, bits, path .. "." .. case.name, label .. "." .. case.name, case.type, version, unit)
    end
  else
    local value, more, rows = readers[type.kind](bits, type, version)
    local item = tree:add(leaves[path], bits:range(first), value)
    if label:find("[", 1, true) then item:prepend_text(label .. " ") end
    if unit then item:append_text(" " .. unit) end
    if more then item:append_text(more) end
    for y, row in ipairs(rows or {}) do
      item:add(leaves[path .. ".row"], bits:range(first), table.concat(row, " "))
        :prepend_text("[" .. (y - 1) .. "] ")
    end
    item:append_text(string.format("  [bits %d to %d]", first, bits.at - 1))
  end
end

show_fields = function(tree, bits, path, fields, version)
  for _, field in ipairs(fields) do
    if alive(field, version) then
      show(tree, bits, path .. "." .. field.name, field.name, field.type, version, field.unit)
    end
  end
end

-- Runs `f`; what it cannot read is said in the tree.
local function guarded(tree, f)
  local fine, problem = pcall(f)
  if not fine then tree:add_proto_expert_info(malformed, tostring(problem)) end
  return fine
end

-- ---- what a capture tells about connections ----

local offered = {}  -- versions of an offer, by nonce
local agreed = {}   -- version by the two endpoints
local servers = {}  -- endpoints that hellos went to: "plaintext" or "encrypted"

function proto.init() offered, agreed, servers = {}, {}, {} end

local function source(pinfo) return tostring(pinfo.src) .. ":" .. pinfo.src_port end
local function destination(pinfo) return tostring(pinfo.dst) .. ":" .. pinfo.dst_port end

local function is_up(pinfo)
  if servers[destination(pinfo)] then return true end
  if servers[source(pinfo)] then return false end
  return pinfo.dst_port == proto.prefs.port
end

local function version_of(pinfo, up)
  local client = up and source(pinfo) or destination(pinfo)
  local server = up and destination(pinfo) or source(pinfo)
  return agreed[client .. " " .. server] or description.version
end

-- ---- datagrams ----

local forms = { "hello", "cookie", "connect", "accept", "handshake error", "versions", "stateless reset", "reset query" }
local modes = { "plaintext", "encrypted" }

local function show_mode(tree, bits, pinfo)
  local first = bits.at
  local mode = modes[bits:get(8)] or "unknown"
  tree:add(link.mode, bits:range(first), mode)
  bits:get(8)
  servers[destination(pinfo)] = mode
  return mode
end

local function show_connect(tree, bits, pinfo, nonce)
  local mode = show_mode(tree, bits, pinfo)
  local first = bits.at
  tree:add(link.cookie, bits:range(first), bits:hex(16))
  if mode ~= "plaintext" then return mode end
  bits:hex(32)
  first = bits.at
  local name = bits:text(bits:get(7))
  local item = tree:add(link.protocol, bits:range(first), name)
  if name ~= description.name then
    item:append_text(" (this description is of " .. description.name .. ")")
  end
  offered[nonce] = {}
  for i = 1, bits:get(4) + 1 do
    first = bits.at
    local version = bits:get(16)
    offered[nonce][i] = version
    local branch = tree:add(link.version, bits:range(first), version)
    first = bits.at
    branch:add(link.digest, bits:range(first), bits:hex(16))
  end
  return name
end

local function show_accept(tree, bits, pinfo, nonce)
  if servers[source(pinfo)] ~= "plaintext" then return "encrypted" end
  bits:hex(32)
  local first = bits.at
  if bits:get(1) == 0 then
    tree:add(link.error, bits:range(first), bits:get(8))
    first = bits.at
    local text = bits:text(bits:get(8))
    tree:add(link.text, bits:range(first), text)
    return "refused " .. text
  end
  first = bits.at
  tree:add(link.connection, bits:range(first), bits:get(28))
  first = bits.at
  local place = bits:get(4)
  local version = (offered[nonce] or {})[place + 1]
  if version then
    agreed[destination(pinfo) .. " " .. source(pinfo)] = version
    tree:add(link.version, bits:range(first), version)
    return "version " .. version
  end
  tree:add(bits:range(first), "Version: place " .. place .. " of an offer that was not captured")
  return "place " .. place
end

local function show_handshake(tree, bits, pinfo, form)
  if form == "stateless reset" or form == "reset query" then return "" end
  local first = bits.at
  local link_version = bits:get(16)
  tree:add(link.link_version, bits:range(first), link_version)
  first = bits.at
  local nonce = bits:hex(8)
  tree:add(link.nonce, bits:range(first), nonce)
  if link_version ~= known_link_version then return "link version " .. link_version end
  first = bits.at
  if form == "hello" then return show_mode(tree, bits, pinfo) end
  if form == "connect" then return show_connect(tree, bits, pinfo, nonce) end
  if form == "accept" then return show_accept(tree, bits, pinfo, nonce) end
  if form == "cookie" then
    tree:add(link.cookie, bits:range(first), bits:hex(16))
  elseif form == "handshake error" then
    tree:add(link.error, bits:range(first), bits:get(8))
  elseif form == "versions" then
    for _ = 1, bits:get(4) do
      first = bits.at
      tree:add(link.link_version, bits:range(first), bits:get(16))
    end
  end
  return ""
end

local ack_delays = { 0, 1, 2, 3, 4, 6, 8, 10, 13, 17, 22, 28, 36, 46, 60, 80 }

-- Numbers are shown as they travel: their low 6 bits, or 16.
local function show_acks(tree, bits)
  local first = bits.at
  local whole = bits:get(1) == 1
  local wide = not whole and bits:get(1) == 1
  local size = wide and 65536 or 64
  local newest = bits:get(wide and 16 or 6)
  local delay = ack_delays[bits:get(4) + 1]
  local runs, at = {}, newest
  if whole then
    runs[1] = "16 up to " .. newest
  else
    for run = 0, bits:count(0) do
      if run > 0 then at = at - bits:count(0) - 1 end
      local length = bits:count(2) + 1
      local low = at - length + 1
      runs[#runs + 1] = length == 1 and tostring(at % size) or (low % size) .. "-" .. (at % size)
      at = low - 1
    end
  end
  tree:add(link.ack, bits:range(first), table.concat(runs, ", "))
  tree:add(link.ack_delay, bits:range(first), delay)
end

-- Which message a payload is: the types of one channel and direction are numbered, in no bits if there is one.
local function message_of(bits, channel, up, version)
  local kinds = {}
  for _, message in ipairs(description.messages) do
    if message.channel == channel and alive(message, version)
      and ((up and message.up) or (not up and message.down)) then
      kinds[#kinds + 1] = message
    end
  end
  if #kinds == 0 then error("nothing travels on this channel in this direction", 0) end
  return kinds[below(bits:get(bits_for(#kinds)), #kinds) + 1]
end

-- "3 back, place 0"
local function origin(back, place)
  return (back == 0 and "this packet" or back .. " back") .. ", place " .. place
end

local function show_message(tree, bits, up, version, seen, last)
  local channels = living(description.channels, version)
  local start = bits.at - 1
  local place = bits:get(bits_for(#channels))
  local channel = channels[below(place, #channels) + 1]
  local number
  if channel.delivery == "sequenced" then
    if bits:get(1) == 1 then
      last[place] = (last[place] or -1) + 1
      number = origin(0, last[place])
    else
      local back = bits:count(1) + 1
      number = "copy, " .. origin(back, bits:count(0))
    end
  elseif channel.delivery ~= "unreliable" then
    if bits:get(1) == 1 then
      last[place] = (last[place] + 1) % 65536
    else
      last[place] = bits:get(16)
    end
    number = tostring(last[place])
  end
  local length = bits:count(6)
  local payload = reader(bits.tvb, bits.at, bits.at + length)
  if length > bits:left() then error("the datagram ends within a message", 0) end
  bits.at = bits.at + length
  local branch = tree:add(link.frame, bits:range(start), "message")
  guarded(branch, function()
    local message = message_of(payload, place + 1, up, version)
    seen[#seen + 1] = message.name
    branch:set_text(message.name .. " on " .. channel.name)
    branch:add(link.message, bits:range(start), message.name)
    branch:add(link.channel, bits:range(start), channel.name)
    if number then branch:add(link.message_number, bits:range(start), number) end
    branch:add(link.message_bits, bits:range(start), length)
    if message.asks then
      local range = payload:range(payload.at)
      local request_id = payload:get(16)
      local abandoned = request_id == 0 -- the id of the request follows, and no fields
      if abandoned then
        range = payload:range(payload.at)
        request_id = payload:get(16)
      end
      branch:add(link.request_id, range, request_id)
      if abandoned then
        branch:append_text(", abandoned")
        return
      end
    end
    show_fields(branch, payload, message.path, message.fields, version)
    if payload:left() > 0 then error(payload:left() .. " bits are left over", 0) end
  end)
end

local function show_piece(tree, bits, version, seen, last)
  local channels = living(description.channels, version)
  local start = bits.at - 3
  local place = bits:get(bits_for(#channels))
  local channel = channels[below(place, #channels) + 1]
  local number
  if channel.delivery == "unreliable" or channel.delivery == "sequenced" then
    local back = bits:count(1)
    local at = bits:count(0)
    if back == 0 and channel.delivery == "sequenced" then
      last[place] = math.max(last[place] or -1, at)
    end
    number = origin(back, at)
  else
    number = tostring(bits:get(16))
  end
  local total, first, chunks = bits:count(10), bits:count(4), bits:count(3) + 1
  local bytes = math.min(chunks * 64, math.ceil(total / 8) - first * 64)
  if bytes <= 0 or bytes * 8 > bits:left() then error("the datagram ends within a piece", 0) end
  bits.at = bits.at + bytes * 8
  local text = string.format("piece on %s: bytes %d to %d of %d", channel.name, first * 64,
    first * 64 + bytes - 1, math.ceil(total / 8))
  local branch = tree:add(link.frame, bits:range(start), "piece")
  branch:set_text(text)
  branch:add(link.channel, bits:range(start), channel.name)
  branch:add(link.message_number, bits:range(start), number)
  seen[#seen + 1] = text
end

local controls = { [0] = "ping", "close", "window", "challenge", "response", "padding", "parity" }

-- What stands behind the three bits of a control frame.
local function show_control(tree, bits, version, seen)
  local first = bits.at - 3
  local kind = controls[bits:get(3)]
  if not kind then error("no control frame has this kind", 0) end
  local text
  if kind == "close" then
    local code = bits:get(8)
    text = bits:text(bits:get(7))
    if code > 0 then text = text .. " (error " .. code .. ")" end
  elseif kind == "window" then
    local channels = living(description.channels, version)
    local channel = channels[below(bits:get(bits_for(#channels)), #channels) + 1]
    text = channel.name .. " up to " .. bits:get(32)
  elseif kind == "parity" then
    local channels = living(description.channels, version)
    local channel = channels[below(bits:get(bits_for(#channels)), #channels) + 1]
    local number = bits:get(16)
    local others = bits:get(4)
    bits:get(12)  -- the lengths
    local length = bits:count(6)
    if length > bits:left() then error("the datagram ends within parity", 0) end
    bits.at = bits.at + length
    text = channel.name .. " " .. number
    for after = 1, 4 do
      if math.floor(others / 2 ^ (after - 1)) % 2 == 1 then text = text .. ", " .. (number + after) % 65536 end
    end
  elseif kind == "challenge" or kind == "response" then
    text = bits:hex(8)
  elseif kind == "padding" then
    bits.at = bits.stop
  end
  local branch = tree:add(link.frame, bits:range(first), kind)
  if text then branch:add(link.text, bits:range(first), text) end
  seen[#seen + 1] = text and kind .. ": " .. text or kind
end

local function show_data(tree, bits, pinfo)
  local up = is_up(pinfo)
  local version = version_of(pinfo, up)
  bits:get(1)  -- key phase
  local has_acks, wide = bits:get(1) == 1, bits:get(1) == 1
  local first = bits.at
  local id = bits:get(up and 28 or 4)
  if up then tree:add(link.connection, bits:range(first), id) end
  first = bits.at
  local number = bits:get(wide and 16 or 8)
  tree:add(link.number, bits:range(first), number)
  if servers[up and destination(pinfo) or source(pinfo)] == "encrypted" then
    return (up and "up " or "down ") .. number .. "  encrypted"
  end
  if has_acks then show_acks(tree, bits) end
  local seen, last = {}, {}
  while bits:left() >= 3 do
    first = bits.at
    if bits:get(1) == 1 then
      show_message(tree, bits, up, version, seen, last)
    else
      local kind = bits:get(2)
      if kind == 0 then
        if bits:left() >= 5 or bits:get(bits:left()) ~= 0 then
          error("there is more behind the end", 0)
        end
        break
      elseif kind == 1 then
        show_piece(tree, bits, version, seen, last)
      elseif kind == 2 then
        local length = bits:count(6)
        if length > bits:left() then error("the datagram ends within a state frame", 0) end
        bits.at = bits.at + length
        tree:add(link.frame, bits:range(first), "state"):append_text(", " .. length .. " bits")
        seen[#seen + 1] = "state"
      else
        show_control(tree, bits, version, seen)
      end
    end
  end
  return (up and "up " or "down ") .. number .. "  " .. table.concat(seen, ", ")
end

function proto.dissector(tvb, pinfo, root)
  if tvb:len() < 6 then return 0 end
  local first_byte = tvb(0, 1):uint()
  local form = first_byte % 2 == 1 and "data" or forms[first_byte / 2]
  if not form then return 0 end
  pinfo.cols.protocol = description.name
  local tree = root:add(proto, tvb())
  tree:add(link.form, tvb(0, 1), form)
  -- AEAD tag or check of data; those of connects and accepts are shown with the form.
  local tag = 0
  if form == "data" then
    local server = is_up(pinfo) and destination(pinfo) or source(pinfo)
    tag = servers[server] == "encrypted" and 16 or 4
  elseif form == "accept" then
    tag = 16
  end
  if tvb:len() < tag + 2 then return 0 end
  local bits = reader(tvb, form == "data" and 1 or 8, (tvb:len() - tag) * 8)
  guarded(tree, function()
    local info
    if form == "data" then
      info = show_data(tree, bits, pinfo)
    else
      info = show_handshake(tree, bits, pinfo, form)
    end
    pinfo.cols.info = form .. " " .. info
    tree:append_text(", " .. form .. " " .. info)
  end)
  if tag == 4 then
    tree:add(link.check, tvb(tvb:len() - 4, 4), tvb(tvb:len() - 4, 4):le_uint())
  end
  return tvb:len()
end

-- ---- which datagrams are ours: those of a port, and those behind a hello ----

local function is_hello(tvb)
  return tvb:len() == 1200 and (tvb(0, 1):uint() == 2 or tvb(0, 1):uint() == 6)
    and tvb(1, 2):le_uint() == known_link_version
end

proto:register_heuristic("udp", function(tvb, pinfo, root)
  if not is_hello(tvb) then return false end
  proto.dissector(tvb, pinfo, root)
  pinfo.conversation = proto
  return true
end)

proto.prefs.port = Pref.uint("Server's UDP port", 4000,
  "Datagrams to and from this port are read as " .. description.name)
local ports = DissectorTable.get("udp.port")
local added = proto.prefs.port
ports:add(added, proto)
function proto.prefs_changed()
  ports:remove(added, proto)
  added = proto.prefs.port
  ports:add(added, proto)
end
