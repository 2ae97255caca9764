<script setup lang="ts">
import Button from 'primevue/button';
import Dialog from 'primevue/dialog';
import InputText from 'primevue/inputtext';
import Password from 'primevue/password';
import SelectButton from 'primevue/selectbutton';
import { computed, reactive, ref } from 'vue';
import { ProblemError, run, setSecret, type Problem } from '../lib/api';
import { connectionStatement } from '../lib/statements';

const visible = defineModel<boolean>('visible', { required: true });
const emit = defineEmits<{ made: [name: string] }>();

const types = ['kafka', 'postgres', 'file', 'drip'] as const;
const type = ref<(typeof types)[number]>('kafka');
const name = ref('');
const password = ref('');
const values = reactive<Record<string, string>>({
  'kafka.bootstrap_servers': '127.0.0.1:9092',
  'postgres.url': 'jdbc:postgresql://127.0.0.1:5432/hub',
  'drip.url': 'http://127.0.0.1:7172',
});
const secretly = computed(() => type.value === 'kafka' || type.value === 'postgres');
const key = (option: string) => type.value + '.' + option;
const problem = ref<Problem | null>(null);
const busy = ref(false);

const fields = computed(
  () =>
    ({
      kafka: [
        { option: 'bootstrap_servers', label: 'Servers', hint: 'HOST:PORT, separated by commas' },
        { option: 'sasl', label: 'Log-in', hint: 'empty, PLAIN, SCRAM-SHA-256 or SCRAM-SHA-512' },
        { option: 'user', label: 'User', hint: 'if there is a log-in' },
      ],
      postgres: [
        { option: 'url', label: 'URL', hint: 'jdbc:postgresql://HOST:PORT/DATABASE' },
        { option: 'user', label: 'User', hint: 'needs REPLICATION and the tables' },
      ],
      file: [{ option: 'path', label: 'Folder', hint: 'on the machine of the service' }],
      drip: [{ option: 'url', label: 'URL', hint: 'http://HOST:PORT of another service' }],
    })[type.value],
);

async function make() {
  busy.value = true;
  problem.value = null;
  try {
    let secret: string | null = null;
    if (password.value && secretly.value) {
      secret = name.value + '_password';
      await setSecret(secret, password.value);
    }
    const options = Object.fromEntries(fields.value.map((f) => [f.option, values[key(f.option)] ?? '']));
    await run(connectionStatement(name.value, type.value, options, secret));
    password.value = '';
    visible.value = false;
    emit('made', name.value);
  } catch (e) {
    problem.value = e instanceof ProblemError ? e.problem : { detail: String(e) };
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <Dialog v-model:visible="visible" modal header="Make a connection" :style="{ width: '460px' }">
    <form class="form" data-test="connect-form" @submit.prevent="make">
      <SelectButton v-model="type" :options="[...types]" :allow-empty="false" size="small" />
      <label>Name<InputText v-model="name" size="small" placeholder="hub_log" data-test="connect-name" /></label>
      <label v-for="f in fields" :key="f.option">{{ f.label }}<InputText v-model="values[key(f.option)]" size="small" :placeholder="f.hint" :data-test="'connect-' + f.option" /></label>
      <label v-if="secretly">Password<Password v-model="password" size="small" :feedback="false" placeholder="kept as a secret, never shown" /></label>
      <p v-if="problem" class="bad" data-test="connect-problem">{{ problem.detail }} <span>{{ problem.hint }}</span></p>
      <Button type="submit" size="small" label="Try and keep" :loading="busy" :disabled="!name" data-test="connect-make" />
    </form>
  </Dialog>
</template>

<style scoped>
.form { display: flex; flex-direction: column; gap: 10px; }
label { display: grid; grid-template-columns: 90px 1fr; align-items: center; font-size: 13px; }
label :deep(input) { width: 100%; }
.bad { color: var(--went); margin: 0; font-size: 13px; }
.bad span { color: var(--faded); }
</style>
