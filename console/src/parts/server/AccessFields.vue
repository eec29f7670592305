<script setup lang="ts">
import { ElCheckbox, ElFormItem, ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed } from 'vue'
import type { ServerForm } from '../../use/serverform'
import { useSession } from '../../use/session'
import SecretSelect from './SecretSelect.vue'

/** Whose credential a server is given, and how it is come by. */
defineProps<{ problem: (field: string) => string; fresh: boolean }>()
const form = defineModel<ServerForm>({ required: true })
const { service, may } = useSession()
const ownClient = computed(() => form.value.grant === 'client' || form.value.grant === 'workload')
</script>

<template>
  <ElFormItem v-if="form.kind === 'address'" label="Authentication" :error="problem('signIn') || problem('signIn.grant')">
    <ElSelect v-model="form.grant" aria-label="Authentication" :empty-values="[null]">
      <ElOption value="" label="Token or none" />
      <ElOption value="code" label="OAuth sign-in with a browser" />
      <ElOption value="client" label="OAuth client credentials" />
      <ElOption value="workload" label="OAuth, the platform vouches for Bouncer" />
      <ElOption value="assertion" label="OAuth, the identity provider vouches for each person" />
    </ElSelect>
  </ElFormItem>
  <ElFormItem v-if="form.kind !== 'command' && !ownClient" label="Credential owner" :error="problem('per')">
    <ElRadioGroup v-model="form.per">
      <ElRadioButton value="team">shared by the team</ElRadioButton>
      <ElRadioButton value="person">per person</ElRadioButton>
      <ElRadioButton value="agent">per agent</ElRadioButton>
    </ElRadioGroup>
  </ElFormItem>
  <template v-if="form.kind === 'address' && form.grant">
    <ElFormItem label="Client id (empty: Bouncer registers itself)" :error="problem('signIn.clientId')"
      ><ElInput v-model="form.clientId" name="clientId"
    /></ElFormItem>
    <ElFormItem v-if="form.clientId" label="Client secret" :error="problem('signIn.clientSecret')"
      ><SecretSelect v-model="form.clientSecret" label="Client secret"
    /></ElFormItem>
    <ElFormItem v-if="form.clientId" label="Private key for signed assertions, instead of a secret" :error="problem('signIn.signingKey')"
      ><SecretSelect v-model="form.signingKey" label="Signing key"
    /></ElFormItem>
    <ElFormItem v-if="form.grant === 'workload'" label="Platform’s assertion" :error="problem('signIn.assertion')"
      ><SecretSelect v-model="form.assertion" label="Assertion"
    /></ElFormItem>
    <ElFormItem label="Scopes (empty: what the server says)" :error="problem('signIn.scope')"
      ><ElInput v-model="form.scope" name="scope"
    /></ElFormItem>
    <ElFormItem v-if="form.clientId" label="The only authorization server this client id is for" :error="problem('signIn.issuer')"
      ><ElInput v-model="form.issuer" name="issuer" placeholder="https://login.example"
    /></ElFormItem>
    <p v-if="form.grant === 'code'" class="soft redirect">
      Redirect address, where clients are registered by hand: <code>{{ service?.redirect }}</code>
    </p>
    <ElFormItem
      v-if="may('servers.reach-inside')"
      label="Private ranges in which its authorization server may be, one per line"
      :error="problem('privateRanges')"
      ><ElInput v-model="form.privateRanges" name="privateRanges" type="textarea" :rows="1" placeholder="10.20.0.0/16" />
      <span class="soft">What this server names can then be reached there.</span>
    </ElFormItem>
    <ElCheckbox v-if="!fresh" v-model="form.takeIssuer"
      >Accept the authorization server that it names now, though it is another one</ElCheckbox
    >
  </template>
</template>

<style scoped>
.redirect {
  margin: 0 0 12px;
  overflow-wrap: anywhere;
}
</style>
