// Counts the instructions that a program carries out in the user-mode emulator: a plugin for it, by
// version 1 of its plugin interface, whose few declarations are these.
#include <stdint.h>
#include <stdio.h>

struct qemu_plugin_tb;
extern void qemu_plugin_register_vcpu_tb_trans_cb(uint64_t id, void (*translated)(uint64_t id, struct qemu_plugin_tb *block));
extern size_t qemu_plugin_tb_n_insns(const struct qemu_plugin_tb *block);
extern void qemu_plugin_register_vcpu_tb_exec_inline(struct qemu_plugin_tb *block, int add, void *to, uint64_t n);
extern void qemu_plugin_register_atexit_cb(uint64_t id, void (*end)(uint64_t id, void *data), void *data);

int qemu_plugin_version = 1;
static uint64_t count;

static void translated(uint64_t id, struct qemu_plugin_tb *block) {
	qemu_plugin_register_vcpu_tb_exec_inline(block, 0, &count, qemu_plugin_tb_n_insns(block));
}

static void end(uint64_t id, void *data) { fprintf(stderr, "instructions %llu\n", (unsigned long long)count); }

int qemu_plugin_install(uint64_t id, const void *info, int argc, char **argv) {
	qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
	qemu_plugin_register_atexit_cb(id, end, NULL);
	return 0;
}
