<script setup lang="ts">
import { KEYS } from './useKeys.js'

/** The sheet of keys. */
const isOpen = defineModel<boolean>({ required: true })
</script>

<template>
  <v-dialog v-model="isOpen" max-width="520">
    <v-card title="Keys" data-test="keys">
      <v-table density="compact">
        <tbody>
          <tr v-for="[keys, does] in KEYS" :key="keys">
            <td class="mono text-no-wrap">{{ keys }}</td>
            <td>{{ does }}</td>
          </tr>
        </tbody>
      </v-table>
      <v-card-actions><v-spacer /><v-btn autofocus @click="isOpen = false">Close</v-btn></v-card-actions>
    </v-card>
  </v-dialog>
</template>
