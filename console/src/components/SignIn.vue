<script setup lang="ts">
import Button from 'primevue/button';
import Password from 'primevue/password';
import { ref } from 'vue';
import { ProblemError, type Problem } from '../lib/api';
import { useWho } from '../stores/who';

const who = useWho();
const token = ref('');
const busy = ref(false);
const problem = ref<Problem | null>(null);

async function enter() {
  busy.value = true;
  problem.value = null;
  try {
    await who.signIn(token.value.trim());
    token.value = '';
  } catch (e) {
    problem.value = e instanceof ProblemError ? e.problem : { detail: String(e) };
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <main class="door">
    <form data-test="sign-in" @submit.prevent="enter">
      <h2>Who are you?</h2>
      <label for="token">Token</label>
      <Password
        v-model="token"
        input-id="token"
        :feedback="false"
        toggle-mask
        fluid
        autofocus
        autocomplete="current-password"
        placeholder="drip_…"
      />
      <p v-if="problem" class="bad" data-test="sign-in-problem">{{ problem.detail }}</p>
      <Button type="submit" label="Sign in" :loading="busy" :disabled="!token.trim()" data-test="enter" />
      <p class="faded">
        The owner makes tokens: <code>drip token make ROLE NAME</code>. The owner's own is in
        <code>owner.token</code>, in the service's folder.
      </p>
    </form>
  </main>
</template>

<style scoped>
.door { flex: 1; display: flex; align-items: flex-start; justify-content: center; padding: 14vh 20px; background: repeating-linear-gradient(var(--sheet) 0 25px, var(--rule) 25px 26px); }
form { display: flex; flex-direction: column; gap: 12px; width: 400px; padding: 24px 28px; background: var(--paper); border: 1px solid var(--rule); border-top: 3px double var(--ink); }
h2 { font: 600 19px var(--serif); margin: 0; }
label { font-size: 13px; color: var(--faded); margin-bottom: -6px; }
.bad { color: var(--went); font-weight: 600; margin: 0; }
.faded { color: var(--faded); font-size: 13px; margin: 4px 0 0; line-height: 1.5; }
code { font: 12px var(--mono); }
</style>
