<template>
  <v-container>
    <v-alert type="warning" variant="tonal">
      <h1>There is no such page</h1>
      <router-link :to="{ name: 'home' }">Back to the first page</router-link>
    </v-alert>
  </v-container>
</template>
