// The plain C interface of an exported library.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <limits>
#include <new>

#include "exported/instance.hpp"
#include "zavrek/model.h"

struct zavrek_model {
  std::unique_ptr<zavrek::model::Model> model;
  std::vector<std::byte> state;
};

namespace {

using zavrek::model::Variable;

const std::vector<Variable>* variables(const zavrek_model* model, int kind) {
  if (model == nullptr) return nullptr;
  switch (kind) {
    case ZAVREK_INPUT:
      return &model->model->inputs();
    case ZAVREK_PARAMETER:
      return &model->model->parameters();
    case ZAVREK_OUTPUT:
      return &model->model->outputs();
    default:
      return nullptr;
  }
}

const Variable* variable(const zavrek_model* model, int kind, int number) {
  const auto* list = variables(model, kind);
  if (list == nullptr || number < 0 || static_cast<std::size_t>(number) >= list->size()) return nullptr;
  return &(*list)[static_cast<std::size_t>(number)];
}

void tell(char* why, std::size_t size, const char* text) {
  if (why == nullptr || size == 0) return;
  std::strncpy(why, text, size - 1);
  why[size - 1] = '\0';
}

}  // namespace

#define ZAVREK_API extern "C" __attribute__((visibility("default")))

ZAVREK_API int zavrek_model_version(void) { return ZAVREK_MODEL_VERSION; }

ZAVREK_API const char* zavrek_model_manifest(void) {
  try {
    const auto& parts = zavrek::exported::own_parts();
    const auto found = parts.find("manifest");
    return found == parts.end() ? "{}" : found->second.c_str();
  } catch (...) {
    return "{}";
  }
}

ZAVREK_API zavrek_model* zavrek_model_open(char* why, size_t size) {
  try {
    auto made = std::make_unique<zavrek_model>();
    made->model = zavrek::exported::make_model(zavrek::exported::own_parts());
    made->model->save(made->state);
    tell(why, size, "");
    return made.release();
  } catch (const std::exception& error) {
    tell(why, size, error.what());
  } catch (...) {
    tell(why, size, "unknown");
  }
  return nullptr;
}

ZAVREK_API void zavrek_model_close(zavrek_model* model) { delete model; }

ZAVREK_API double zavrek_model_step_length(const zavrek_model* model) { return model->model->step_s(); }
ZAVREK_API double zavrek_model_time(const zavrek_model* model) { return model->model->time_s(); }

ZAVREK_API int zavrek_model_count(const zavrek_model* model, int kind) {
  const auto* list = variables(model, kind);
  return list == nullptr ? 0 : static_cast<int>(list->size());
}
ZAVREK_API const char* zavrek_model_name(const zavrek_model* model, int kind, int number) {
  const Variable* one = variable(model, kind, number);
  return one == nullptr ? nullptr : one->name.c_str();
}
ZAVREK_API const char* zavrek_model_unit(const zavrek_model* model, int kind, int number) {
  const Variable* one = variable(model, kind, number);
  return one == nullptr ? nullptr : one->unit.c_str();
}
ZAVREK_API int zavrek_model_find(const zavrek_model* model, int kind, const char* name) {
  const auto* list = variables(model, kind);
  if (list == nullptr || name == nullptr) return -1;
  const auto at =
      std::find_if(list->begin(), list->end(), [&](const Variable& one) { return one.name == name; });
  return at == list->end() ? -1 : static_cast<int>(at - list->begin());
}

ZAVREK_API int zavrek_model_set(zavrek_model* model, int kind, int number, double value) {
  if (variable(model, kind, number) == nullptr || kind == ZAVREK_OUTPUT) return ZAVREK_NOT_THERE;
  const auto at = static_cast<std::size_t>(number);
  const bool taken =
      kind == ZAVREK_INPUT ? model->model->set_input(at, value) : model->model->set_parameter(at, value);
  return taken ? ZAVREK_WELL : ZAVREK_NOT_A_NUMBER;
}
ZAVREK_API double zavrek_model_get(const zavrek_model* model, int kind, int number) {
  if (variable(model, kind, number) == nullptr) return std::numeric_limits<double>::quiet_NaN();
  const auto at = static_cast<std::size_t>(number);
  return kind == ZAVREK_INPUT       ? model->model->input(at)
         : kind == ZAVREK_PARAMETER ? model->model->parameter(at)
                                    : model->model->output(at);
}

ZAVREK_API int zavrek_model_step(zavrek_model* model) {
  return model->model->step() ? ZAVREK_WELL : ZAVREK_ENDED;
}
ZAVREK_API const char* zavrek_model_text(const zavrek_model* model) {
  return model->model->failure().c_str();
}

ZAVREK_API size_t zavrek_model_state_size(zavrek_model* model) {
  try {
    model->model->save(model->state);
  } catch (...) {
    return 0;
  }
  return model->state.size();
}
ZAVREK_API int zavrek_model_save(zavrek_model* model, void* bytes, size_t size) {
  try {
    model->model->save(model->state);
    if (bytes == nullptr || size != model->state.size()) return ZAVREK_NOT_ITS_STATE;
    std::memcpy(bytes, model->state.data(), size);
    return ZAVREK_WELL;
  } catch (...) {
    return ZAVREK_NO_MEMORY;
  }
}
ZAVREK_API int zavrek_model_restore(zavrek_model* model, const void* bytes, size_t size) {
  if (bytes == nullptr) return ZAVREK_NOT_ITS_STATE;
  try {
    model->model->restore({static_cast<const std::byte*>(bytes), size});
    return ZAVREK_WELL;
  } catch (const zavrek::Error&) {
    return ZAVREK_NOT_ITS_STATE;
  } catch (...) {
    return ZAVREK_NO_MEMORY;
  }
}
ZAVREK_API int zavrek_model_reset(zavrek_model* model) {
  try {
    model->model->reset();
    return ZAVREK_WELL;
  } catch (...) {
    return ZAVREK_NO_MEMORY;
  }
}
