<template>
  <v-container>
    <v-alert type="warning" variant="tonal" title="There is no such page">
      <router-link :to="{ name: 'home' }">Back to the first page</router-link>
    </v-alert>
  </v-container>
</template>
