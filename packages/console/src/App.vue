<script setup lang="ts">
import { useRoute } from 'vue-router'
import AppFrame from './layout/AppFrame.vue'

const route = useRoute()
</script>

<template>
  <v-app>
    <v-main v-if="route.name === 'sign-in'">
      <router-view />
    </v-main>
    <AppFrame v-else-if="route.name">
      <router-view />
    </AppFrame>
  </v-app>
</template>
