# SPDX-License-Identifier: Apache-2.0
set(CMAKE_SYSTEM_NAME Generic)
set(CMAKE_SYSTEM_PROCESSOR riscv32)
set(CMAKE_C_COMPILER riscv64-unknown-elf-gcc)
set(CMAKE_TRY_COMPILE_TARGET_TYPE STATIC_LIBRARY)
set(CMAKE_C_FLAGS_INIT
  "--specs=picolibc.specs -march=rv32imfc -mabi=ilp32f -ffreestanding -fbuiltin -ffunction-sections -fdata-sections -fno-math-errno")
