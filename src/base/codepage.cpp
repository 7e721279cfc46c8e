#include <algorithm>
#include <array>
#include <mutex>
#include <vector>

#include <fmt/core.h>
#include <unicode/ucnv.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

namespace nuvrat {
namespace {

constexpr char16_t unmapped_base = 0xF700;

// Where the library's table of an OEM page isn't the published one (Unicode consortium,
// VENDORS/MICSFT/PC; 720: as its maker's systems map it).
struct Exception {
  unsigned page;
  std::uint8_t byte;
  char16_t unit;  // 0: the published table has none
};
constexpr Exception exceptions[] = {
    {437, 0xE6, 0x00B5}, {860, 0xE6, 0x00B5},  {861, 0xE6, 0x00B5}, {862, 0xE6, 0x00B5},
    {863, 0xE6, 0x00B5}, {865, 0xE6, 0x00B5},  {852, 0xAA, 0x00AC}, {869, 0x88, 0x00B7},
    {869, 0xEF, 0x0384}, {864, 0x9F, 0x0000},  {864, 0xD7, 0xFEC1}, {864, 0xD8, 0xFEC5},
    {864, 0xF1, 0x0651}, {720, 0x80, 0x0080},  {720, 0x81, 0x0081}, {720, 0x84, 0x0084},
    {720, 0x86, 0x0086}, {720, 0x8D, 0x008D},  {720, 0x8E, 0x008E}, {720, 0x8F, 0x008F},
    {720, 0x90, 0x0090}, {1253, 0xAA, 0x0000},
};

// A control of the second range, or one for private use: the library's way to say "none".
bool is_none(char16_t unit) {
  return (unit >= 0x80 && unit < 0xA0) || (unit >= 0xE000 && unit < 0xF900);
}

}  // namespace

struct CodePage::Converter {
  UConverter* icu = nullptr;
  std::mutex one_at_a_time;  // of those that encode
  // What bytes mean, asked once: decoding then needs no converter, and any thread may do it.
  std::array<char16_t, 128> single{};  // 80h and up; 0: none by itself
  std::vector<char16_t> pairs;         // by lead byte from 80h on and trail byte
  Converter() = default;
  Converter(const Converter&) = delete;
  Converter& operator=(const Converter&) = delete;
  ~Converter() { ucnv_close(icu); }

  // One character from at most two bytes; 0 when these bytes don't map.
  char16_t unit_of(std::array<char, 2> bytes, std::int32_t count) const {
    UErrorCode status = U_ZERO_ERROR;
    ucnv_reset(icu);
    char16_t out[4];
    const std::int32_t length = ucnv_toUChars(icu, out, 4, bytes.data(), count, &status);
    return U_SUCCESS(status) && length == 1 ? out[0] : u'\0';
  }

  void fill_tables(unsigned number) {
    for (unsigned lead = 0; lead < 128; ++lead) {
      const char first = static_cast<char>(lead + 0x80);
      single[lead] = unit_of({first, 0}, 1);
      if (is_none(single[lead])) single[lead] = 0;
      for (const Exception& e : exceptions) {
        if (e.page == number && e.byte == lead + 0x80) single[lead] = e.unit;
      }
      if (single[lead] != 0) continue;
      for (unsigned trail = 0; trail < 256; ++trail) {
        const char16_t unit = unit_of({first, static_cast<char>(trail)}, 2);
        if (unit == 0) continue;
        pairs.resize(std::size_t{128} * 256);
        pairs[lead * 256 + trail] = unit;
      }
    }
  }
};

CodePage::CodePage(unsigned number) : number_(number), converter_(std::make_unique<Converter>()) {
  const auto open = [this](const std::string& name) {
    UErrorCode status = U_ZERO_ERROR;
    converter_->icu = ucnv_open(name.c_str(), &status);
    if (U_FAILURE(status)) converter_->icu = nullptr;
    return converter_->icu != nullptr;
  };
  // By one number the library knows tables of several makers, the OEM pages under one name, those
  // of the graphical systems and of East Asia under another.
  const bool is_oem = number < 1000 && number != 874 && (number < 930 || number > 950);
  const std::string digits = std::to_string(number);
  if (!open((is_oem ? "ibm-" : "windows-") + digits) && !open("cp" + digits) &&
      !open((is_oem ? "windows-" : "ibm-") + digits)) {
    throw Error(ErrorCode::words, fmt::format("code page {} is not known", number), {},
                "Give the number of an OEM code page, such as 437, 850, 852, 866 or 932");
  }
  UErrorCode status = U_ZERO_ERROR;
  ucnv_setToUCallBack(converter_->icu, UCNV_TO_U_CALLBACK_STOP, nullptr, nullptr, nullptr, &status);
  ucnv_setFromUCallBack(converter_->icu, UCNV_FROM_U_CALLBACK_STOP, nullptr, nullptr, nullptr,
                        &status);
  converter_->fill_tables(number);
}

CodePage::~CodePage() = default;
CodePage::CodePage(CodePage&&) noexcept = default;
CodePage& CodePage::operator=(CodePage&&) noexcept = default;

std::u16string CodePage::decode(ByteView bytes) const {
  std::u16string out;
  out.reserve(bytes.size());
  const auto& single = converter_->single;
  const auto& pairs = converter_->pairs;
  for (std::size_t at = 0; at < bytes.size(); ++at) {
    const std::uint8_t byte = bytes[at];
    if (byte < 0x80) {  // every OEM code page agrees with ASCII in what names may hold
      out.push_back(static_cast<char16_t>(byte));
      continue;
    }
    const std::size_t lead = byte - 0x80u;
    char16_t unit = single[lead];
    if (unit == 0 && !pairs.empty() && at + 1 < bytes.size()) {
      unit = pairs[lead * 256 + bytes[at + 1]];
      if (unit != 0) ++at;
    }
    out.push_back(unit != 0 ? unit : static_cast<char16_t>(unmapped_base + byte));
  }
  return out;
}

Bytes CodePage::encode(std::u16string_view text) const {
  Bytes out;
  for (const char16_t unit : text) {
    if (unit < 0x80) {
      out.push_back(static_cast<std::uint8_t>(unit));
      continue;
    }
    if (unit >= unmapped_base + 0x80 && unit <= unmapped_base + 0xFF) {
      out.push_back(static_cast<std::uint8_t>(unit - unmapped_base));
      continue;
    }
    const auto& single = converter_->single;
    if (const auto it = std::find(single.begin(), single.end(), unit); it != single.end()) {
      out.push_back(static_cast<std::uint8_t>(0x80 + (it - single.begin())));
      continue;
    }
    UErrorCode status = U_ZERO_ERROR;
    char buffer[8];
    const std::lock_guard lock(converter_->one_at_a_time);
    ucnv_reset(converter_->icu);
    const std::int32_t n =
        ucnv_fromUChars(converter_->icu, buffer, sizeof buffer, &unit, 1, &status);
    if (U_FAILURE(status) || n != 2) return {};  // of one byte it would be in the table
    const Bytes pair = {static_cast<std::uint8_t>(buffer[0]), static_cast<std::uint8_t>(buffer[1])};
    if (decode(pair) != std::u16string_view(&unit, 1)) return {};
    out.insert(out.end(), pair.begin(), pair.end());
  }
  return out;
}

}  // namespace nuvrat
